"""Maps of a bit a cell: where a shape fits is found for all places of a map at once, compiled.

A row of a map is a few words of 64 cells. A shape is a few rectangles; where one of them would meet something is that
something smeared by the rectangle, in as many shifts as the logarithm of its size.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.compiled import compiled
from tidy_caravan.core.lightmap.orders import changed, first_state
from tidy_caravan.core.scene.arrays import I64, AnyArray

WORD = 64


def empty_map(width: int, height: int) -> tuple[AnyArray, AnyArray, AnyArray]:
    """A map of `width` by `height` cells with nothing on it, and room to work in.

    All are rows one after the other, `words_of(width)` words each. taken: (rows · words) what is taken. near: (levels, rows · words)
    what is taken with the gap around it, smeared along rows by 1, 2, 4 … cells. work: (2, rows · words).
    """
    length = height * words_of(width)
    levels = width.bit_length() + 1
    return np.zeros(length, np.uint64), np.zeros((levels, length), np.uint64), np.zeros((2, length), np.uint64)


def words_of(width: int) -> int:
    """Words that a row of so many cells takes."""
    return -(-width // WORD)


@compiled
def add_moved(out, bits, first, last, by):  # type: ignore[no-untyped-def]
    """Adds to the words first … last of `out` the bits that lie `by` cells on. A bit that comes from the next row lands
    where no corner of a shape can be that reaches so far. `out` may be `bits`."""
    whole, rest = by // WORD, np.uint64(by % WORD)
    # slices, so that every index counts from nothing: the loops are vectorized only then
    here, there = out[first:last], bits[first + whole :]
    count = min(len(here), len(there))
    if not rest:
        for i in range(count):
            here[i] |= there[i]
        return
    back = np.uint64(WORD) - rest
    for i in range(min(count, len(there) - 1)):
        here[i] |= there[i] >> rest | there[i + 1] << back
    if count == len(there) and count:
        here[count - 1] |= there[count - 1] >> rest


@compiled
def widened(taken, words, gap, out):  # type: ignore[no-untyped-def]
    """What is taken with the gap around it on all sides."""
    rows = len(taken) // words
    out[:] = taken
    one, last = np.uint64(1), np.uint64(WORD - 1)
    for y in range(rows):
        row = out[y * words : (y + 1) * words]
        for _ in range(gap):
            for i in range(words - 1, -1, -1):
                carried = row[i - 1] >> last if i else np.uint64(0)
                row[i] |= row[i] << one | carried
        for _ in range(gap):
            for i in range(words):
                carried = row[i + 1] << last if i + 1 < words else np.uint64(0)
                row[i] |= row[i] >> one | carried
    for _ in range(gap):
        add_moved(out, out, 0, len(out), words * WORD)
    before = np.empty(max(len(out) - words, 0), np.uint64)
    for _ in range(gap):
        before[:] = out[: len(before)]
        after = out[words:]
        for i in range(len(before)):
            after[i] |= before[i]


@compiled
def find_places(taken, words, gap, near, known, work, blocks, wide, high, width):  # type: ignore[no-untyped-def]
    """Fills in work[0]: the places of a shape's lower corner, a bit each, at which all of its blocks are `gap` cells at least from
    what is taken; the shape as a whole is wide x high and stays inside. O(blocks · log size) passes over the map.

    blocks: (B, 4) x, y, width, height in cells. known: (1,) how many levels of `near` hold; 0 after something was laid.
    """
    met, part = work[0], work[1]
    rows = len(taken) // words
    corners = (rows - high + 1) * words
    met[:] = np.uint64(0)
    if not known[0]:
        widened(taken, words, gap, near[0])
        known[0] = 1
    for b in range(blocks.shape[0]):
        x, y, w, h = blocks[b, 0], blocks[b, 1], blocks[b, 2], blocks[b, 3]
        level = 0
        while 2 << level <= w:
            level += 1
        while known[0] <= level:
            k = known[0]
            near[k] = near[k - 1]
            add_moved(near[k], near[k - 1], 0, len(taken), 1 << (k - 1))
            known[0] = k + 1
        # a corner at c meets a cell t when t - c is in the block
        move = y * words * WORD + x
        rest = w - (1 << level)
        if h == 1:
            add_moved(met, near[level], 0, corners, move)
            if rest:
                add_moved(met, near[level], 0, corners, move + rest)
            continue
        first, last = y * words, min(len(taken), y * words + corners + h * words)
        part[first:last] = near[level, first:last]
        if rest:
            add_moved(part, near[level], first, last, rest)
        built = 1
        while built < h:
            own = part[first:last]
            add_moved(own, own, 0, last - first, min(built, h - built) * words * WORD)
            built *= 2
        add_moved(met, part, 0, corners, move)
    # the shape stays inside
    across = width - wide + 1
    for i in range(words):
        inside = np.uint64(0)
        count = across - i * WORD
        if count >= WORD:
            inside = ~np.uint64(0)
        elif count > 0:
            inside = (np.uint64(1) << np.uint64(count)) - np.uint64(1)
        for row in range(rows):
            at = row * words + i
            met[at] = inside & ~met[at] if row <= rows - high else np.uint64(0)


@compiled
def first_of(places, words):  # type: ignore[no-untyped-def]
    """(x, y) of the lowest of the places, the leftmost of those; (-1, -1) where there is none."""
    for i in range(places.size):
        word = places[i]
        if word:
            x = i % words * WORD
            while not word & np.uint64(1):
                word >>= np.uint64(1)
                x += 1
            return x, i // words
    return -1, -1


@compiled
def take(taken, words, blocks, x, y):  # type: ignore[no-untyped-def]
    """Takes the cells of blocks whose common lower corner is at (x, y)."""
    for b in range(blocks.shape[0]):
        begin = x + blocks[b, 0]
        end = begin + blocks[b, 2]
        for i in range(begin // WORD, (end - 1) // WORD + 1):
            low, top = max(begin - i * WORD, 0), min(end - i * WORD, WORD)
            word = ~np.uint64(0) >> np.uint64(WORD - (top - low)) << np.uint64(low)
            for row in range(y + blocks[b, 1], y + blocks[b, 1] + blocks[b, 3]):
                taken[row * words + i] |= word


@compiled
def laid_in_order(  # type: ignore[no-untyped-def]
    order, blocks, begin, wide, high, turns, width, height, gap, taken, near, work, out, worst
):
    """The cells of the shapes that do not fit a map, 0 when all do; one after the other, each is laid where it makes what is
    covered the least larger. out (K, 3) is where: x, y and turn.

    blocks: (B, 4) of all shapes in all turns; those of shape k in turn t are begin[4k + t]:begin[4k + t + 1]. wide, high: (K,
    4) cells of each in each turn. turns: (K,) how many of them are looked at. taken, near, work: of an `empty_map`.
    worst: cells left out from which on the rest is not looked at.
    """
    words = len(taken) // height
    known = np.zeros(1, np.int64)
    left = 0
    taken[:] = np.uint64(0)
    for k in order:
        best, second, third, chosen = np.inf, 0, 0, -1
        for turn in range(turns[k]):
            w, h = wide[k, turn], high[k, turn]
            if w > width or h > height or max(w / width, h / height) > best:
                continue
            own = blocks[begin[4 * k + turn] : begin[4 * k + turn + 1]]
            find_places(taken, words, gap, near, known, work, own, w, h, width)
            x, y = first_of(work[0], words)
            if x < 0:
                continue
            cost = max((x + w) / width, (y + h) / height)
            if chosen < 0 or cost < best or (cost == best and (y + h < second or (y + h == second and x < third))):
                best, second, third, chosen = cost, y + h, x, turn
                out[k, 0], out[k, 1], out[k, 2] = x, y, turn
        if chosen < 0:
            left += wide[k, 0] * high[k, 0]
            if left > worst:
                return left
            continue
        take(taken, words, blocks[begin[4 * k + chosen] : begin[4 * k + chosen + 1]], out[k, 0], out[k, 1])
        known[0] = 0
    return left


@compiled
def climbed(  # type: ignore[no-untyped-def]
    order, blocks, begin, wide, high, turns, width, height, gap, taken, near, work, out, tries, seed
):
    """Whether all shapes fit in the order, or with one or two of them moved in it, up to `tries` times; see
    `rectangles.improved`."""
    least = laid_in_order(order, blocks, begin, wide, high, turns, width, height, gap, taken, near, work, out, 1 << 62)
    state, trial = first_state(seed), order.copy()
    for _ in range(tries):
        if least == 0:
            return True
        state = changed(order, trial, state)
        found = laid_in_order(
            trial, blocks, begin, wide, high, turns, width, height, gap, taken, near, work, out, least
        )
        if found <= least:
            least = found
            order[:] = trial
    return least == 0


def blocks_of(mask: AnyArray) -> I64:
    """(B, 4) rectangles that make up a mask (H, W), by merging equal runs of neighbouring rows."""
    out = np.empty((mask.size // 2 + mask.shape[0] + 1, 4), np.int64)
    return out[: int(fill_in_blocks(mask, out))].copy()


@compiled
def fill_in_blocks(mask, out):  # type: ignore[no-untyped-def]
    """The same; how many there are."""
    high, wide = mask.shape
    waiting = np.empty((wide // 2 + 1, 3), np.int64)  # left, right and first row of runs that go on, from left to right
    fresh = np.empty_like(waiting)
    held = count = 0
    for y in range(high + 1):
        made = at = x = 0
        while y < high and x < wide:
            if not mask[y, x]:
                x += 1
                continue
            left = x
            while x < wide and mask[y, x]:
                x += 1
            while at < held and waiting[at, 0] < left:
                out[count, 0], out[count, 1] = waiting[at, 0], waiting[at, 2]
                out[count, 2], out[count, 3] = waiting[at, 1] - waiting[at, 0], y - waiting[at, 2]
                count += 1
                at += 1
            fresh[made, 0], fresh[made, 1], fresh[made, 2] = left, x, y
            if at < held and waiting[at, 0] == left and waiting[at, 1] == x:
                fresh[made, 2] = waiting[at, 2]
                at += 1
            made += 1
        while at < held:
            out[count, 0], out[count, 1] = waiting[at, 0], waiting[at, 2]
            out[count, 2], out[count, 3] = waiting[at, 1] - waiting[at, 0], y - waiting[at, 2]
            count += 1
            at += 1
        waiting, fresh = fresh, waiting
        held = made
    return count


@compiled
def cells_of(lines, wide, high):  # type: ignore[no-untyped-def]
    """(high, wide) cells that an island touches whose border is lines (L, 2, 2) in cells: those that the lines run
    through, and those inside by parity along rows. Exact but for touching; O(cells of the border + area)."""
    out = inside_of(lines, wide, high)
    for k in range(lines.shape[0]):
        x, y = lines[k, 0, 0], lines[k, 0, 1]
        along, up = lines[k, 1, 0] - x, lines[k, 1, 1] - y
        # the lines between cells that it crosses, in its own order
        to_right, to_top = along > 0, up > 0
        column = np.floor(x) + 1 if to_right else np.ceil(x) - 1
        row = np.floor(y) + 1 if to_top else np.ceil(y) - 1
        done = 0.0
        while done < 1.0:
            across = (column - x) / along if along != 0 else np.inf
            upward = (row - y) / up if up != 0 else np.inf
            part = min(across, upward, 1.0)
            if part > done or done == 0.0:
                middle = (done + part) / 2
                a, b = int(np.floor(x + along * middle)), int(np.floor(y + up * middle))
                out[min(max(b, 0), high - 1), min(max(a, 0), wide - 1)] = True
            if across <= part:
                column += 1 if to_right else -1
            if upward <= part:
                row += 1 if to_top else -1
            done = max(done, part)
    return out


@compiled
def inside_of(lines, wide, high):  # type: ignore[no-untyped-def]
    """(high, wide) cells whose middle has an odd number of border lines to its left."""
    odd = np.zeros((high, wide), np.bool_)
    for k in range(lines.shape[0]):
        x, y = lines[k, 0, 0], lines[k, 0, 1]
        low, top = min(y, lines[k, 1, 1]), max(y, lines[k, 1, 1])
        first, last = int(np.ceil(low - 0.5)), int(np.ceil(top - 0.5))
        for row in range(max(first, 0), min(last, high)):
            at = x + (lines[k, 1, 0] - x) * ((row + 0.5 - y) / (lines[k, 1, 1] - y))
            column = max(int(np.ceil(at - 0.5)), 0)
            if column < wide:
                odd[row, column] = not odd[row, column]
    for row in range(high):
        for column in range(1, wide):
            odd[row, column] = odd[row, column] != odd[row, column - 1]
    return odd


@compiled
def blocks_of_all(lines, begin, size, shaped, scale, slack):  # type: ignore[no-untyped-def]
    """The blocks of all shapes in all turns and where those of each begin, see `laid_in_order`, with their (K, 4) widths and
    heights in cells.

    lines: (L, 2, 2) the borders of all, those of shape k are begin[k]:begin[k + 1]. size: (K, 2). shaped: (K,) whether a
    shape is more than its box. scale: (2,) cells per unit. slack: cells by which a shape is less than those that it takes. Half
    a turn is the same cells the other way round, and so is a quarter where cells are as fine both ways.
    """
    count = size.shape[0]
    wide, high = np.empty((count, 4), np.int64), np.empty((count, 4), np.int64)
    out = np.empty((1024, 4), np.int64)
    ends = np.zeros(4 * count + 1, np.int64)
    made = 0
    for k in range(count):
        for turn in range(4):
            across = size[k, turn % 2] * scale[0]
            up = size[k, 1 - turn % 2] * scale[1]
            w, h = max(1, int(np.ceil(across + slack))), max(1, int(np.ceil(up + slack)))
            wide[k, turn], high[k, turn] = w, h
            room = made + h * (w // 2 + 1) + 1
            if room > out.shape[0]:
                more = np.empty((2 * room, 4), np.int64)
                more[:made] = out[:made]
                out = more
            if not shaped[k] or wide[k, 0] * high[k, 0] <= 16:
                out[made, 0], out[made, 1], out[made, 2], out[made, 3] = 0, 0, w, h
                made += 1
            elif turn >= 2 or (turn == 1 and scale[0] == scale[1]):
                back = 2 if turn >= 2 else 1
                for i in range(ends[4 * k + turn - back], ends[4 * k + turn - back + 1]):
                    x, y, a, b = out[i, 0], out[i, 1], out[i, 2], out[i, 3]
                    if turn >= 2:
                        out[made, 0], out[made, 1], out[made, 2], out[made, 3] = w - x - a, h - y - b, a, b
                    else:
                        out[made, 0], out[made, 1], out[made, 2], out[made, 3] = w - y - b, x, b, a
                    made += 1
            else:
                own = lines[begin[k] : begin[k + 1]].copy()
                for i in range(own.shape[0]):
                    for end in range(2):
                        x, y = own[i, end, 0], own[i, end, 1]
                        if turn == 1:
                            x, y = size[k, 1] - y, x
                        own[i, end, 0] = x * scale[0] + (w - across) / 2
                        own[i, end, 1] = y * scale[1] + (h - up) / 2
                made += fill_in_blocks(cells_of(own, w, h), out[made:])
            ends[4 * k + turn + 1] = made
    return out[:made], ends, wide, high
