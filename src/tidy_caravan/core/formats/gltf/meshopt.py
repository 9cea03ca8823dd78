"""Decodes buffer views that are packed by EXT_meshopt_compression: attributes, triangles, index sequences, filters.

After the bit streams in the extension's text (Khronos, EXT_meshopt_compression, appendices A and B). All raise ValueError or
IndexError for what is no such stream.
"""

from __future__ import annotations

from array import array

import numpy as np

from tidy_caravan.core.scene.arrays import F64, U8, U32, AnyArray

GROUP = 16
"""Elements of a channel that are packed alike."""
MOST_OF_A_BLOCK, BYTES_OF_A_BLOCK = 256, 8192
LEAST_TAIL = 32
"""Bytes that end a stream of attributes at least, so that decoders may read on."""
QUARTERS = [bytes((b >> 6, b >> 4 & 3, b >> 2 & 3, b & 3)) for b in range(256)]
HALVES = [bytes((b >> 4, b & 15)) for b in range(256)]
NOTHING = bytes(MOST_OF_A_BLOCK)
OCTAHEDRAL, QUATERNION, EXPONENTIAL = "OCTAHEDRAL", "QUATERNION", "EXPONENTIAL"


def decode(data: bytes, count: int, stride: int, mode: str, filter_: str) -> U8:
    """(count, stride) bytes of a view."""
    if mode == "ATTRIBUTES":
        rows = attributes(data, count, stride)
        return filtered(rows, filter_) if filter_ != "NONE" else rows
    if mode not in ("TRIANGLES", "INDICES") or stride not in (2, 4) or filter_ != "NONE":
        raise ValueError(f"a view of mode {mode[:20]}, {stride} bytes and filter {filter_[:20]}")
    numbers = triangles(data, count) if mode == "TRIANGLES" else sequence(data, count)
    return numbers.astype(f"<u{stride}").view(np.uint8).reshape(count, stride)


def attributes(data: bytes, count: int, stride: int) -> U8:
    """(count, stride) bytes, each column packed by itself as differences from row to row. O(count · stride)."""
    if stride % 4 or not 4 <= stride <= 256 or len(data) < 1 + max(stride, LEAST_TAIL):
        raise ValueError("an impossible stride or a stream that is too short")
    if data[0] != 0xA0:
        raise ValueError(f"the head {data[0]:#x}")
    end, at = len(data) - max(stride, LEAST_TAIL), 1
    last = np.frombuffer(data, np.uint8, stride, len(data) - stride)
    block = min(BYTES_OF_A_BLOCK // stride // GROUP * GROUP, MOST_OF_A_BLOCK)
    out = np.empty((count, stride), np.uint8)
    for begin in range(0, count, block):
        rows = min(block, count - begin)
        groups = -(-rows // GROUP)
        columns = []
        for _ in range(stride):
            column, at = channel(data, at, groups)
            columns.append(column)
        if at > end:
            raise ValueError("a stream that is cut short")
        packed = np.frombuffer(b"".join(columns), np.uint8).reshape(stride, groups * GROUP)[:, :rows]
        steps = (packed >> 1) ^ (np.uint8(0) - (packed & 1))
        values = np.cumsum(steps, axis=1, dtype=np.uint8) + last[:, None]
        out[begin : begin + rows] = values.T
        last = values[:, -1]
    if at != end:
        raise ValueError("bytes that belong to nothing")
    return out


def channel(data: bytes, at: int, groups: int) -> tuple[bytes, int]:
    """The differences of one column of a block, and where the next begins."""
    size = -(-groups // 4)
    head = data[at : at + size]
    at += size
    if head == NOTHING[:size]:
        return NOTHING[: groups * GROUP], at
    parts = []
    for g in range(groups):
        bits = head[g >> 2] >> ((g & 3) * 2) & 3
        if bits == 0:
            parts.append(NOTHING[:GROUP])
        elif bits == 3:
            parts.append(data[at : at + GROUP])
            at += GROUP
        else:
            table, beyond = (QUARTERS, 3) if bits == 1 else (HALVES, 15)
            width = GROUP * bits * 2 // 8
            values = b"".join([table[b] for b in data[at : at + width]])
            at += width
            if beyond in values:  # the largest stands for a whole byte that follows
                whole = bytearray(values)
                place = whole.find(beyond)
                while place >= 0:
                    whole[place] = data[at]
                    at += 1
                    place = whole.find(beyond, place + 1)
                values = bytes(whole)
            parts.append(values)
    return b"".join(parts), at


class Bytes:
    """Reads whole numbers of seven bits a byte, and differences with their sign in the lowest bit."""

    def __init__(self, data: bytes, at: int) -> None:
        self.data, self.at = data, at

    def number(self) -> int:
        out = shift = 0
        for _ in range(5):
            byte = self.data[self.at]
            self.at += 1
            out |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                break
        return out

    def difference(self) -> int:
        return signed(self.number())


def signed(value: int) -> int:
    return (value >> 1) ^ -(value & 1)


def triangles(data: bytes, count: int) -> U32:
    """(count,) corners of triangles, told by edges and vertices that were there before. O(count)."""
    if count % 3 or len(data) < 1 + count // 3 + 16 or data[0] not in (0xE0, 0xE1):
        raise ValueError("no triangles of as many corners")
    most = 13 if data[0] & 15 else 15
    edges = [(0, 0)] * 16
    vertices = [0] * 16
    edge = vertex = fresh = last = 0
    reader, table = Bytes(data, 1 + count // 3), data[-16:]
    out = array("q")  # a list of numbers takes four times as much
    for code in data[1 : 1 + count // 3]:
        if code < 0xF0:
            a, b = edges[(edge - 1 - (code >> 4)) & 15]
            kind = code & 15
            if kind < most:
                c = vertices[(vertex - 1 - kind) & 15] if kind else fresh
            else:
                # 13 and 14 are the neighbours of the last free one
                c = last = last + (kind - (kind ^ 3)) if kind != 15 else last + reader.difference()
            if not kind:
                fresh += 1
            if not kind or kind >= most:
                vertices[vertex] = c
                vertex = (vertex + 1) & 15
            new = [(c, b), (a, c)]
        else:
            if code < 0xFE:
                first, more = 0, table[code & 15]
            else:
                first, more = (0 if code == 0xFE else 15), data[reader.at]
                reader.at += 1
                if not more:
                    fresh = 0
            corners = []
            # all are looked up before any of them is remembered
            for kind in (first, more >> 4, more & 15):
                if kind == 0:
                    corners.append(fresh)
                    fresh += 1
                else:
                    corners.append(vertices[(vertex - kind) & 15])
            for k, kind in enumerate((first, more >> 4, more & 15)):
                if code >= 0xFE and kind == 15:
                    corners[k] = last = last + reader.difference()
            for value, kind in zip(corners, (0, more >> 4, more & 15), strict=True):
                if kind == 0 or (code >= 0xFE and kind == 15):
                    vertices[vertex] = value
                    vertex = (vertex + 1) & 15
            a, b, c = corners
            new = [(b, a), (c, b), (a, c)]
        for pair in new:
            edges[edge] = pair
            edge = (edge + 1) & 15
        out.extend((a, b, c))
    if reader.at > len(data) - 16:
        raise ValueError("a stream that is cut short")
    return np.frombuffer(out, np.int64).astype(np.uint32)


def sequence(data: bytes, count: int) -> U32:
    """(count,) indices as differences from one of two that went before. O(count)."""
    if len(data) < 1 + count + 4 or data[0] not in (0xD0, 0xD1):
        raise ValueError("no indices of that number")
    reader, last = Bytes(data, 1), [0, 0]
    out = array("q")
    for _ in range(count):
        value = reader.number()
        last[value & 1] += signed(value >> 1)
        out.append(last[value & 1])
    if reader.at > len(data) - 4:
        raise ValueError("a stream that is cut short")
    return np.frombuffer(out, np.int64).astype(np.uint32)


def filtered(rows: U8, filter_: str) -> U8:
    """The rows (N, stride) as they were before the filter."""
    count, stride = rows.shape
    if filter_ == EXPONENTIAL:
        packed = np.ascontiguousarray(rows).view("<i4")
        whole = np.ldexp((packed << 8 >> 8).astype(np.float64), packed >> 24)
        with np.errstate(over="ignore"):  # beyond single precision it is no number, and told as such
            floats: U8 = whole.astype("<f4").view(np.uint8).reshape(count, stride)
        return floats
    if (filter_, stride) not in ((OCTAHEDRAL, 4), (OCTAHEDRAL, 8), (QUATERNION, 8)):
        raise ValueError(f"the filter {filter_[:20]} of {stride} bytes")
    kind = np.dtype("<i1" if stride == 4 else "<i2")
    given: AnyArray = np.ascontiguousarray(rows).view(kind)
    most = float(np.iinfo(kind.name).max)
    out = given.copy()
    if filter_ == OCTAHEDRAL:
        x, y = given[:, 0].astype(np.float64), given[:, 1].astype(np.float64)
        z = given[:, 2] - np.abs(x) - np.abs(y)  # the third is what one is
        below = np.minimum(z, 0.0)
        x, y = x + np.where(x >= 0, below, -below), y + np.where(y >= 0, below, -below)
        vectors: F64 = np.stack([x, y, z], axis=1)
        length = np.linalg.norm(vectors, axis=1, keepdims=True)
        out[:, :3] = rounded(vectors * most / np.where(length > 0, length, 1.0))
    else:
        three = given[:, :3] / (np.sqrt(2.0) * (given[:, 3:] | 3))
        largest = np.sqrt(np.maximum(1.0 - (three**2).sum(axis=1), 0.0))
        place = (given[:, 3] & 3).astype(np.int64)
        row = np.arange(count)
        for k, values in enumerate((largest, *three.T)):
            out[row, (place + k) & 3] = rounded(values * most)
    return out.view(np.uint8).reshape(count, stride)


def rounded(values: F64) -> F64:
    """Halves away from nought."""
    out: F64 = np.trunc(values + np.where(values >= 0, 0.5, -0.5))
    return out
