"""Which rule decides each of many addresses: RFC 9309 section 2.2.2 (`single` has it for one).

`match_many` takes a whole column at once: addresses are sorted, so a
literal rule is a range found by bisection; a wildcard rule finds each of its pieces in the joined
text of its range, starting from the piece's rarest byte, and takes in every row the first place
behind the piece before. Rules are laid over each other in order of weight, so the last one laid
decides. The work grows with the text that a rule's first literal leaves, times its pieces.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from indrel.base.arrow import pa
from indrel.core.robots.file import LITERAL, Pattern, Rule, comparable_path
from indrel.core.robots.single import weight

Indices = npt.NDArray[np.int64]
NO_RULE = -1

_SAMPLE = 200_000
"""Bytes looked at to learn which are rare."""

_PART = 8
"""A range smaller than this part of the column is searched alone."""

_WORTH_AN_INDEX = 4
"""From so many different pairs of bytes on, one pass that finds them all is quicker than one each."""

_FEW = 2_000
"""Up to so many paths are sorted without Arrow's functions, which take a tenth of a second to load."""

_BLOCK = 4
"""Each block of 2 to this power bytes of the text keeps its row, so that a position finds its row without bisection."""

_KEPT = 64
"""Searches of the whole column that are remembered."""


def _octets(array: pa.Array) -> tuple[Indices, npt.NDArray[np.uint8]]:
    """The offsets and the joined bytes of an Arrow string array."""
    _, offsets, data = array.buffers()
    kind = np.int64 if pa.types.is_large_string(array.type) else np.int32
    ends = np.frombuffer(offsets, dtype=kind)[array.offset : array.offset + len(array) + 1].astype(np.int64)
    octets = np.frombuffer(data if data is not None else b"", dtype=np.uint8)
    return ends - ends[0], octets[int(ends[0]) : int(ends[-1])]


def _sorted(paths: pa.Array) -> tuple[Indices, pa.Array]:
    """The order of paths in their comparable form, and they themselves in it."""
    import pyarrow.compute as pc  # a tenth of a second: only where many are matched

    written = _octets(paths)[1].tobytes()
    for text, literal in LITERAL.items():
        if text[:1].encode() in written and text.encode() in written:  # one byte is looked for much faster than three
            paths = pc.replace_substring(paths, text, literal)
    order = pc.sort_indices(paths)
    return order.to_numpy(), paths.take(order)


def _sorted_few(paths: pa.Array) -> tuple[Indices, pa.Array]:
    texts = [path or "" for path in paths.to_pylist()]
    for text, literal in LITERAL.items():
        texts = [path.replace(text, literal) for path in texts]
    order = sorted(range(len(texts)), key=texts.__getitem__)
    return np.array(order, dtype=np.int64), pa.array([texts[i] for i in order], type=pa.large_string())


class Paths:
    """Paths and queries of normalised addresses, made ready to be matched against several rulesets.

    They are sorted in their comparable form, as one block of bytes with offsets.
    """

    def __init__(self, source: Sequence[str] | Any) -> None:
        paths = source if isinstance(source, pa.Array) else pa.array(source, type=pa.large_string())
        octets = _octets(paths)[1]
        if len(octets) and octets.max() > 127:
            paths = pa.array([comparable_path(p or "") for p in paths.to_pylist()], type=pa.large_string())
        self.order, self.array = _sorted_few(paths) if len(paths) <= _FEW else _sorted(paths)
        self.offsets, self.octets = _octets(self.array)
        self.text = memoryview(self.octets.data)
        self._found: dict[bytes, Indices] = {}
        self._index: dict[int, Indices] = {}

    def __len__(self) -> int:
        return len(self.array)

    def __getitem__(self, index: int) -> bytes:
        return bytes(self.text[self.offsets[index] : self.offsets[index + 1]])

    def span(self, prefix: bytes) -> tuple[int, int]:
        """The range of rows that begin with `prefix`."""
        if not prefix:
            return 0, len(self)
        low = bisect_left(self, prefix)
        end = prefix[:-1] + bytes([prefix[-1] + 1])  # comparable paths are ASCII, so this never overflows
        return low, bisect_left(self, end, low)

    def find(self, piece: bytes, low: int, high: int) -> Indices:
        """Where `piece` begins in the text of the rows from `low` to `high`, in order."""
        begin, end = int(self.offsets[low]), int(self.offsets[high])
        if (end - begin) * _PART < len(self.octets):
            return self._scan(piece, begin, end)
        if piece not in self._found:
            if len(self._found) >= _KEPT:  # bounded: each may be as long as the column
                self._found.clear()
            self._found[piece] = self._scan(piece, 0, len(self.octets))
        at = self._found[piece]
        return at if end - begin == len(self.octets) else at[slice(*np.searchsorted(at, (begin, end)))]

    def ending(self, tail: bytes, low: int, high: int) -> Indices:
        """The rows from `low` to `high` that end with `tail`."""
        rows = np.flatnonzero(self._last[low:high] == tail[-1]) + low
        rows = rows[self.offsets[rows + 1] - self.offsets[rows] >= len(tail)]
        for back, octet in enumerate(reversed(tail[:-1]), 2):
            rows = rows[self.octets[self.offsets[rows + 1] - back] == octet]
        return rows

    def lowered(self) -> Paths:
        """The same paths in lower case, numbered by their place in `array`."""
        octets = np.frombuffer(self.octets.tobytes().lower(), dtype=np.uint8)
        buffers = [None, pa.py_buffer(self.offsets), pa.py_buffer(octets)]
        return Paths(pa.Array.from_buffers(pa.large_string(), len(self), buffers))

    def _scan(self, piece: bytes, begin: int, end: int) -> Indices:
        """Places of the piece's rarest pair of bytes, narrowed by the others one after the other."""
        if len(piece) == 1:
            return np.flatnonzero(self.octets[begin:end] == piece[0]) + begin
        pivot, code = self._pivot(piece)
        at = self._places(code, begin + pivot, max(end - len(piece) + pivot + 1, 0)) - pivot
        for i, octet in enumerate(piece):
            if i not in (pivot, pivot + 1) and len(at):
                at = at[self.octets[at + i] == octet]
        return at

    def _pivot(self, piece: bytes) -> tuple[int, int]:
        """The position and code of a piece's rarest pair of bytes."""
        codes = [piece[i] << 8 | piece[i + 1] for i in range(len(piece) - 1)]
        pivot = min(range(len(codes)), key=lambda i: int(self._histogram[codes[i]]))
        return pivot, codes[pivot]

    def _places(self, code: int, begin: int, end: int) -> Indices:
        """Where a pair of bytes stands, in order."""
        at = self._index.get(code)
        if at is None:
            return np.flatnonzero(self._pairs[begin:end] == code) + begin
        return at[slice(*np.searchsorted(at, (begin, end)))]

    def prepare(self, pieces: Sequence[bytes]) -> None:
        """Find in one pass where the rarest pairs of many pieces stand."""
        codes = sorted({self._pivot(p)[1] for p in pieces if len(p) > 1} - set(self._index))
        if len(codes) < _WORTH_AN_INDEX:
            return
        wanted = np.zeros(65_536, dtype=bool)
        wanted[codes] = True
        places = np.flatnonzero(wanted[self._pairs])
        found = self._pairs[places]
        order = np.argsort(found, kind="stable")  # a radix sort: linear
        ends = np.searchsorted(found[order], codes, side="right")
        self._index |= dict(zip(codes, np.split(places[order], ends[:-1]), strict=True))

    @cached_property
    def _pairs(self) -> npt.NDArray[np.uint16]:
        pairs: npt.NDArray[np.uint16] = np.left_shift(self.octets[:-1], 8, dtype=np.uint16)
        pairs |= self.octets[1:]
        return pairs

    @cached_property
    def _last(self) -> npt.NDArray[np.uint8]:
        """The last byte of each row; of an empty one it is another's."""
        return self.octets[self.offsets[1:] - 1] if len(self.octets) else np.zeros(len(self), dtype=np.uint8)

    @cached_property
    def _histogram(self) -> npt.NDArray[np.int64]:
        return np.bincount(self._pairs[:: max(1, len(self._pairs) // _SAMPLE)], minlength=65_536)

    def row_of(self, at: Indices) -> Indices:
        """The rows in which places of the text stand: first that of their block's beginning, then some rows on."""
        rows: Indices = self._blocks[at >> _BLOCK]
        behind = np.flatnonzero(self.offsets[rows + 1] <= at)
        while len(behind):
            rows[behind] += 1
            behind = behind[self.offsets[rows[behind] + 1] <= at[behind]]
        return rows

    @cached_property
    def _blocks(self) -> Indices:
        """The row that holds the first byte of each block."""
        begun = (self.offsets + (1 << _BLOCK) - 1) >> _BLOCK
        rows: Indices = np.repeat(np.arange(len(self)), np.diff(begun))
        return rows


def _rows(column: Paths, pattern: Pattern) -> slice | Indices:
    """The rows of the column that a pattern matches."""
    pieces = [p.encode() for p in pattern.pieces]
    first, *middles, last = pieces if len(pieces) > 1 else [pieces[0], b""]
    low, high = column.span(first)
    if low >= high:
        return slice(0, 0)
    if len(pieces) == 1:
        return slice(low, _equal_end(column, low, high, len(first)) if pattern.anchored else high)
    tail = last if pattern.anchored else b""
    if last and not tail:
        middles.append(last)
    if tail:
        rows = column.ending(tail, low, high)
        at = column.offsets[rows] + len(first)
    elif not middles:
        return slice(low, high)
    else:
        rows, at = _first(column, middles.pop(0), low, high, len(first))
    for piece in middles:
        rows, at = _after(column, piece, rows, at, low, high)
    if tail:
        rows = rows[at + len(tail) <= column.offsets[rows + 1]]
    return rows


def _first(column: Paths, piece: bytes, low: int, high: int, skip: int) -> tuple[Indices, Indices]:
    """The rows that hold `piece` behind their first `skip` bytes, and where its first such occurrence ends in each."""
    found = column.find(piece, low, high)
    rows = column.row_of(found)
    inside = (found - column.offsets[rows] >= skip) & (found + len(piece) <= column.offsets[rows + 1])
    rows, found = rows[inside], found[inside]
    leading = np.flatnonzero(np.diff(rows, prepend=-1))  # sorted, so equal rows stand together
    return rows[leading], found[leading] + len(piece)


def _after(column: Paths, piece: bytes, rows: Indices, at: Indices, low: int, high: int) -> tuple[Indices, Indices]:
    """The rows of `rows` that hold `piece` from position `at` on, and where its first such occurrence ends in each."""
    found = column.find(piece, low, high)
    index = np.searchsorted(found, at)
    there = index < len(found)
    rows, begin = rows[there], found[index[there]]
    inside = begin + len(piece) <= column.offsets[rows + 1]
    return rows[inside], begin[inside] + len(piece)


def _equal_end(column: Paths, low: int, high: int, length: int) -> int:
    """The end of the rows from `low` that are exactly `length` bytes long; they sort first."""
    lengths = np.diff(column.offsets[low : high + 1])
    longer = np.flatnonzero(lengths != length)
    return low + int(longer[0]) if len(longer) else high


def match_many(rules: Sequence[Rule], paths: Sequence[str] | Paths | Any) -> npt.NDArray[np.int32]:
    """For each path and query of a normalised address, the index of the rule that decides it.

    Takes a sequence of text, an Arrow string array or `Paths`; gives `NO_RULE` where no rule matches.
    The file's own address is the caller's business (`ALWAYS_ALLOWED`).
    """
    column = paths if isinstance(paths, Paths) else Paths(paths)
    decided = np.full(len(column), NO_RULE, dtype=np.int32)
    if not len(column):
        return decided
    column.prepare([piece.encode() for rule in rules for piece in rule.pattern.pieces[1:]])
    for index in sorted(range(len(rules)), key=lambda i: weight(rules[i], i)):
        decided[_rows(column, rules[index].pattern)] = index
    result = np.empty_like(decided)
    result[column.order] = decided
    return result
