"""Which rule decides an address: RFC 9309 section 2.2.2.

`decide` takes one address. `match_many` takes a whole column at once: addresses are sorted, so a
literal rule is a range found by bisection; a wildcard rule looks for its rarest octet in the joined
text of its range and compares from there. Rules are laid over each other in order of weight, so the
last one laid decides. The work grows with the text that a rule's first literal leaves, and with the
rules that have wildcards, never with their product of pieces.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from indrel.core.robots.file import Pattern, Rule, comparable_path

Indices = npt.NDArray[np.int64]
ALWAYS_ALLOWED = "/robots.txt"
"""RFC 9309 section 2.2.2: the file's own address is implicitly allowed."""

NO_RULE = -1


def matches(pattern: Pattern, path: str) -> bool:
    """Whether a pattern matches a path in its comparable form. Linear in the path's length."""
    pieces = pattern.pieces
    first = pieces[0]
    if not path.startswith(first):
        return False
    if len(pieces) == 1:
        return not pattern.anchored or len(path) == len(first)
    at = len(first)
    for piece in pieces[1:-1]:
        found = path.find(piece, at)
        if found < 0:
            return False
        at = found + len(piece)
    last = pieces[-1]
    if pattern.anchored:
        return len(path) - at >= len(last) and path.endswith(last)
    return path.find(last, at) >= 0


def weight(rule: Rule, position: int) -> tuple[int, bool, int]:
    """Orders rules by who wins: the longest, then `allow`, then the one that stands first."""
    return (rule.pattern.length, rule.allow, -position)


def matching(rules: Sequence[Rule], path: str) -> list[Rule]:
    """All rules that match a path and query, the deciding one first."""
    text = comparable_path(path)
    hits = [(weight(rule, i), rule) for i, rule in enumerate(rules) if matches(rule.pattern, text)]
    hits.sort(key=lambda hit: hit[0], reverse=True)
    return [rule for _, rule in hits]


def decide(rules: Sequence[Rule], path: str) -> tuple[bool, Rule | None]:
    """Whether a path and query may be fetched, and the rule that says so (None: none does)."""
    if path == ALWAYS_ALLOWED:
        return True, None
    hits = matching(rules, path)
    return (hits[0].allow, hits[0]) if hits else (True, None)


class _Column:
    """Sorted comparable paths as one block of octets with offsets."""

    def __init__(self, paths: pa.Array) -> None:
        for character, encoded in (("*", "%2A"), ("$", "%24")):
            if pc.any(pc.match_substring(paths, character)).as_py():
                paths = pc.replace_substring(paths, character, encoded)
        self.order = pc.sort_indices(paths)
        self.array = paths.take(self.order)
        _, offsets, data = self.array.buffers()
        kind = np.int64 if pa.types.is_large_string(self.array.type) else np.int32
        start = self.array.offset
        self.offsets = np.frombuffer(offsets, dtype=kind)[start : start + len(self.array) + 1].astype(np.int64)
        self.text = memoryview(data)[: int(self.offsets[-1])] if data is not None else memoryview(b"")
        self.octets = np.frombuffer(self.text, dtype=np.uint8)
        self._positions: dict[int, Indices] = {}
        self._histogram: npt.NDArray[np.int64] | None = None

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

    def rarest(self, piece: bytes) -> int:
        """The position in `piece` of the octet that the whole column holds least often."""
        if self._histogram is None:
            self._histogram = np.bincount(self.octets, minlength=256)
        counts = self._histogram
        return min(range(len(piece)), key=lambda i: int(counts[piece[i]]))

    def positions(self, octet: int) -> Indices:
        if octet not in self._positions:
            if len(self._positions) > 24:  # bounded: each may be as long as the column
                self._positions.clear()
            self._positions[octet] = np.flatnonzero(self.octets == octet)
        return self._positions[octet]

    def find(self, piece: bytes, low: int, high: int) -> Indices:
        """Where `piece` begins within the rows from `low` to `high`, wholly inside one row."""
        pivot = self.rarest(piece)
        at = self.positions(piece[pivot])
        begin, end = np.searchsorted(at, (self.offsets[low] + pivot, self.offsets[high]))
        at = at[begin:end] - pivot
        at = at[at + len(piece) <= self.offsets[high]]
        for i in sorted(range(len(piece)), key=lambda i: abs(i - pivot)):
            if i != pivot and len(at):
                at = at[self.octets[at + i] == piece[i]]
        rows = self.row_of(at)
        found: Indices = at[at + len(piece) <= self.offsets[rows + 1]]
        return found

    def row_of(self, at: Indices) -> Indices:
        return np.searchsorted(self.offsets, at, side="right") - 1


def _rows(column: _Column, pattern: Pattern) -> slice | Indices:
    """The rows of the column that a pattern matches."""
    pieces = [p.encode() for p in pattern.pieces]
    low, high = column.span(pieces[0])
    if low >= high:
        return slice(0, 0)
    first = len(pieces[0])
    if len(pieces) == 1:
        if not pattern.anchored:
            return slice(low, high)
        return slice(low, _equal_end(column, low, high, first))
    middles, last = pieces[1:-1], pieces[-1]
    rows = np.arange(low, high)
    if pattern.anchored and last:
        rows = _ending(column, rows, last, first)
    elif last:
        middles = [*middles, last]
    if not middles or not len(rows):
        return rows
    longest = max(middles, key=len)
    at = column.find(longest, low, high)
    found = column.row_of(at)
    after = at - column.offsets[found] >= first
    if len(middles) == 1 and not (pattern.anchored and last):
        return np.unique(found[after])
    rows = np.intersect1d(rows, found[after])
    return _verify(column, rows, pattern)


def _equal_end(column: _Column, low: int, high: int, length: int) -> int:
    """The end of the rows from `low` that are exactly `length` octets long; they sort first."""
    lengths = np.diff(column.offsets[low : high + 1])
    longer = np.flatnonzero(lengths != length)
    return low + int(longer[0]) if len(longer) else high


def _ending(column: _Column, rows: Indices, last: bytes, first: int) -> Indices:
    """The rows that end with `last`, with room for the first piece before it."""
    ends = column.offsets[rows + 1]
    room = ends - column.offsets[rows] >= first + len(last)
    rows, ends = rows[room], ends[room]
    for i, octet in enumerate(reversed(last)):
        if not len(rows):
            break
        same = column.octets[ends - 1 - i] == octet
        rows, ends = rows[same], ends[same]
    return rows


def _verify(column: _Column, rows: Indices, pattern: Pattern) -> Indices:
    """Compare candidates one by one, each linear in its length."""
    keep = [i for i, row in enumerate(rows) if matches(pattern, column[row].decode())]
    return rows[keep]


def match_many(rules: Sequence[Rule], paths: Sequence[str] | Any) -> npt.NDArray[np.int32]:
    """For each path and query (comparable or as normalised), the index of the rule that decides it.

    Takes a sequence of text or an Arrow string array; gives `NO_RULE` where no rule matches. The
    file's own address is the caller's business (`ALWAYS_ALLOWED`).
    """
    array = paths if isinstance(paths, pa.Array) else pa.array(paths, type=pa.large_string())
    decided = np.full(len(array), NO_RULE, dtype=np.int32)
    if not len(array) or not rules:
        return decided
    if not pc.all(pc.string_is_ascii(array)).as_py():
        array = pa.array([comparable_path(p) for p in array.to_pylist()], type=pa.large_string())
    column = _Column(array)
    for index in sorted(range(len(rules)), key=lambda i: weight(rules[i], i)):
        decided[_rows(column, rules[index].pattern)] = index
    result = np.empty_like(decided)
    result[column.order.to_numpy()] = decided
    return result
