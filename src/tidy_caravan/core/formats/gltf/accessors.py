"""Buffers, buffer views and accessors of glTF 2.0 (3.6), with every claim checked before memory is taken."""

from __future__ import annotations

import base64
import binascii
from typing import Any
from urllib.parse import unquote_to_bytes

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.gltf import meshopt
from tidy_caravan.core.formats.shared.bundle import Budget, Bundle
from tidy_caravan.core.formats.shared.json_fields import (
    Damage,
    as_int,
    as_list,
    as_object,
    get_bool,
    get_int,
    get_object,
    get_text,
)
from tidy_caravan.core.scene.arrays import F32, AnyArray
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child, Lost

PACKED = "EXT_meshopt_compression"
DRACO_JOB = "tidy_caravan.core.formats.gltf.draco:decode"
COMPONENTS: dict[int, np.dtype[Any]] = {
    5120: np.dtype("<i1"),
    5121: np.dtype("<u1"),
    5122: np.dtype("<i2"),
    5123: np.dtype("<u2"),
    5125: np.dtype("<u4"),
    5126: np.dtype("<f4"),
}
WIDTHS = {
    "SCALAR": (1, 1),
    "VEC2": (1, 2),
    "VEC3": (1, 3),
    "VEC4": (1, 4),
    "MAT2": (2, 2),
    "MAT3": (3, 3),
    "MAT4": (4, 4),
}


def data_uri(uri: str, where: str) -> tuple[str, bytes]:
    """Media type and content of an RFC 2397 address."""
    head, comma, body = uri[5:].partition(",")
    if not comma:
        raise Damage("is a data address without data", where=where)
    mime = head.split(";")[0].lower()
    if ";base64" in head.lower():
        try:
            return mime, base64.b64decode(body + "=" * (-len(body) % 4), validate=True)
        except (binascii.Error, ValueError) as error:
            raise Damage("holds base64 text that cannot be decoded", where=where) from error
    return mime, unquote_to_bytes(body)


class Accessors:
    """Reads accessors of one document; results are cached, so shared accessors stay shared."""

    def __init__(self, document: dict[str, Any], bundle: Bundle, glb_chunk: bytes | memoryview | None) -> None:
        self.bundle = bundle
        self.budget = Budget(bundle.limits.decoded_bytes)
        self.glb_chunk = glb_chunk
        self.buffers = as_list(document.get("buffers", []), "buffers")
        self.views = as_list(document.get("bufferViews", []), "bufferViews")
        self.accessors = as_list(document.get("accessors", []), "accessors")
        self._child: Child | None = None
        self._buffers: dict[int, memoryview | Damage] = {}
        self._arrays: dict[int, AnyArray] = {}
        self._unpacked: dict[int, tuple[memoryview, int]] = {}
        self._decoded: dict[tuple[int, str], AnyArray] = {}

    def close(self) -> None:
        """Ends the process that decodes compressed geometry, if one was needed."""
        if self._child is not None:
            self._child.stop()
            self._child = None

    def unpack(self, entry: dict[str, Any], extension: dict[str, Any], where: str) -> None:
        """Puts what a compressed primitive holds (KHR_draco_mesh_compression) in the place of its accessors.

        Raises Damage.
        """
        place = f"{where}.extensions.KHR_draco_mesh_compression"
        data = bytes(self.view(get_int(extension, "bufferView", place, -1, 0))[0])
        ids = {k: as_int(v, place) for k, v in get_object(extension, "attributes", place).items()}
        self.budget.take(len(data) * 10, place)
        if self._child is None:
            self._child = Child(MEMORY_BYTES + self.bundle.limits.decoded_bytes)
        answer = self._child.call(DRACO_JOB, (data, tuple(sorted(set(ids.values())))), 60.0 + len(data) / 100_000)
        if isinstance(answer, Lost):
            raise Damage("its compressed geometry cannot be decoded", where=place)
        if isinstance(answer, str):
            raise Damage(f"its compressed geometry cannot be decoded: {answer}", where=place)
        faces, values = answer
        self.budget.take(faces.nbytes + sum(v.nbytes for v in values.values()), place)
        attributes = get_object(entry, "attributes", where)
        for key, number in ids.items():
            if key in attributes:
                self._replace(attributes[key], values[number], place)
        if "indices" in entry:
            self._replace(entry["indices"], faces.reshape(-1, 1), place)

    def _replace(self, index: Any, values: AnyArray, where: str) -> None:
        number = as_int(index, where)
        if number >= len(self.accessors):
            raise Damage("refers to an accessor that does not exist", where=where)
        accessor = as_object(self.accessors[number], where)
        code = get_int(accessor, "componentType", where, 5126)
        if code not in COMPONENTS:
            raise Damage(f"has the unknown type {code}", where=where)
        self._arrays[number] = np.ascontiguousarray(values.reshape(len(values), -1).astype(COMPONENTS[code]))

    def buffer(self, index: int) -> memoryview:
        """Raw bytes of a buffer. Raises Damage when missing or shorter than declared."""
        known = self._buffers.get(index)
        if isinstance(known, Damage):
            raise known
        if known is None:
            try:
                known = self._load(index)
            except Damage as damage:
                self._buffers[index] = damage
                raise
            self._buffers[index] = known
        return known

    def _load(self, index: int) -> memoryview:
        where = f"buffers[{index}]"
        if index >= len(self.buffers):
            raise Damage("does not exist", where=where)
        entry = as_object(self.buffers[index], where)
        length = get_int(entry, "byteLength", where, 0)
        uri = get_text(entry, "uri", where)
        data: bytes | memoryview | None
        if uri.startswith("data:"):
            self.budget.take(len(uri) * 3 // 4, where)
            data = data_uri(uri, where)[1]
        elif uri:
            try:
                data = self.bundle.find(uri)
            except UnusableInput as error:
                raise Damage(error.what, where=where) from error
            if data is None:
                raise Damage(f"its file “{uri[:80]}” is missing; send it along", where=where)
        elif index == 0 and self.glb_chunk is not None:
            data = self.glb_chunk
        else:
            raise Damage("has no data", where=where)
        if len(data) < length:
            raise Damage(f"is {len(data)} bytes long where {length} are declared; the file is cut off", where=where)
        return memoryview(data)[:length]

    def view(self, index: int) -> tuple[memoryview, int]:
        """Bytes and stride (0 = tight) of a buffer view."""
        where = f"bufferViews[{index}]"
        if index >= len(self.views):
            raise Damage("does not exist", where=where)
        entry = as_object(self.views[index], where)
        packed = get_object(get_object(entry, "extensions", where), PACKED, where)
        if packed:
            if index not in self._unpacked:
                self._unpacked[index] = self._unpack_view(packed, f"{where}.extensions.{PACKED}")
            return self._unpacked[index]
        return self._cut(entry, where), get_int(entry, "byteStride", where, 0, 0, 255)

    def _cut(self, entry: dict[str, Any], where: str) -> memoryview:
        """The bytes of a buffer that a view, or what is packed in its place, is."""
        data = self.buffer(get_int(entry, "buffer", where, -1, 0))
        start, length = get_int(entry, "byteOffset", where, 0), get_int(entry, "byteLength", where, 0)
        if start + length > len(data):
            raise Damage(f"ends at byte {start + length} of a buffer of {len(data)}", where=where)
        return data[start : start + length]

    def _unpack_view(self, entry: dict[str, Any], where: str) -> tuple[memoryview, int]:
        """The same of a view that is packed (EXT_meshopt_compression)."""
        data = self._cut(entry, where)
        count, stride = get_int(entry, "count", where, 0), get_int(entry, "byteStride", where, 0, 1, 256)
        self.budget.take(count * stride, where)
        self.bundle.tell()
        mode, filter_ = get_text(entry, "mode", where), get_text(entry, "filter", where) or "NONE"
        try:
            rows = meshopt.decode(bytes(data), count, stride, mode, filter_)
        except (ValueError, IndexError) as error:
            raise Damage(f"cannot be unpacked: it holds {error}", where=where) from error
        return memoryview(rows.tobytes()), stride if mode == "ATTRIBUTES" else 0

    def raw(self, index: Any, where: str) -> AnyArray:
        """Accessor content as stored: (count, width), matrices as (count, rows, columns)."""
        number = as_int(index, where)
        if number not in self._arrays:
            self._arrays[number] = self._raw(number)
        return self._arrays[number]

    def _raw(self, index: int) -> AnyArray:
        where = f"accessors[{index}]"
        if index >= len(self.accessors):
            raise Damage("does not exist", where=where)
        entry = as_object(self.accessors[index], where)
        code = get_int(entry, "componentType", where, -1, 0)
        form = get_text(entry, "type", where)
        if code not in COMPONENTS or form not in WIDTHS:
            raise Damage(f"has the unknown type {form or '(none)'} of {code}", where=where)
        dtype, (columns, rows) = COMPONENTS[code], WIDTHS[form]
        count = get_int(entry, "count", where, 0)
        # columns of matrices start on 4-byte boundaries (3.6.2.4)
        column = rows * dtype.itemsize if columns == 1 else -(-rows * dtype.itemsize // 4) * 4
        size = column * columns
        if "bufferView" in entry:
            data, stride = self.view(get_int(entry, "bufferView", where, 0))
            offset = get_int(entry, "byteOffset", where, 0)
            step = stride or size
            needed = offset + (step * (count - 1) + size if count else 0)
            if needed > len(data):
                raise Damage(f"needs {needed} bytes of a view of {len(data)}", where=where)
            if step < size:
                raise Damage(f"has a stride of {step}, less than one element ({size})", where=where)
            flat = np.frombuffer(data, dtype=np.uint8)
            shape = (count, columns, rows)
            if count == 0:
                array = np.zeros(shape, dtype)
            elif step == size and columns == 1:
                array = np.frombuffer(data, dtype, count * rows, offset).reshape(shape)
            else:
                strides = (step, column, dtype.itemsize)
                array = np.ndarray(shape, dtype, flat.data, offset, strides)
        else:
            self.budget.take(count * rows * columns * dtype.itemsize, where)
            array = np.zeros((count, columns, rows), dtype)
        if "sparse" in entry:
            array = self._sparse(as_object(entry["sparse"], f"{where}.sparse"), array, dtype, rows, columns, where)
        return array.transpose(0, 2, 1) if columns > 1 else array[:, 0, :]

    def _sparse(
        self, sparse: dict[str, Any], base: AnyArray, dtype: np.dtype[Any], rows: int, columns: int, where: str
    ) -> AnyArray:
        where += ".sparse"
        count = get_int(sparse, "count", where, 0, 0, len(base))
        places = get_object(sparse, "indices", where)
        code = get_int(places, "componentType", where, 5125)
        if code not in (5121, 5123, 5125):
            raise Damage(f"has indices of the unknown type {code}", where=where)
        index = self._run(places, COMPONENTS[code], count, 1, f"{where}.indices")[:, 0]
        values = self._run(get_object(sparse, "values", where), dtype, count, rows * columns, f"{where}.values")
        if count and int(index.max()) >= len(base):
            raise Damage(f"replaces element {int(index.max())} of {len(base)}", where=where)
        self.budget.take(base.nbytes, where)
        out = base.copy()
        out[index] = values.reshape(count, columns, rows)
        return out

    def _run(self, entry: dict[str, Any], dtype: np.dtype[Any], count: int, width: int, where: str) -> AnyArray:
        data, _ = self.view(get_int(entry, "bufferView", where, -1, 0))
        offset = get_int(entry, "byteOffset", where, 0)
        if offset + count * width * dtype.itemsize > len(data):
            raise Damage("is longer than its view", where=where)
        return np.frombuffer(data, dtype, count * width, offset).reshape(count, width)

    def floats(self, index: Any, where: str, width: int | tuple[int, ...]) -> F32:
        """Accessor as float32 with normalized integers decoded (3.6.2.2, KHR_mesh_quantization).

        width: allowed numbers of components; another is Damage.
        """
        number = as_int(index, where)
        key = (number, "f")
        if key not in self._decoded:
            raw = self.raw(number, where)
            entry = as_object(self.accessors[number], where)
            normalized = get_bool(entry, "normalized", f"accessors[{number}]")
            if raw.dtype != np.float32:
                self.budget.take(raw.size * 4, where)
                out = raw.astype(np.float32)
                if normalized:
                    out = np.maximum(raw.astype(np.float64) / np.iinfo(raw.dtype).max, -1.0).astype(np.float32)
            else:
                if not raw.flags.c_contiguous:
                    self.budget.take(raw.nbytes, where)
                out = np.ascontiguousarray(raw)
            self._decoded[key] = out
        out = self._decoded[key]
        allowed = (width,) if isinstance(width, int) else width
        found = out.shape[1] if out.ndim == 2 else out.shape[1] * out.shape[2]
        if found not in allowed:
            raise Damage(
                f"has {found} components where {' or '.join(map(str, allowed))} are needed",
                where=f"accessors[{number}]",
            )
        return out

    def integers(self, index: Any, where: str, width: int) -> AnyArray:
        """Accessor of unsigned integers as stored. Raises Damage for floats or signed ones."""
        raw = self.raw(index, where)
        if raw.dtype.kind != "u" or raw.ndim != 2 or raw.shape[1] != width:
            raise Damage(f"should hold {width} unsigned whole number(s) per element", where=where)
        return raw
