"""Which rule decides one address: RFC 9309 section 2.2.2."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from indrel.core.robots.file import Pattern, Rule, comparable_path

ALWAYS_ALLOWED = "/robots.txt"
"""RFC 9309 section 2.2.2: the file's own address is implicitly allowed."""


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


RESERVED = re.compile("%(3A|2F|3F|23|5B|5D|40|21|26|27|28|29|2B|2C|3B|3D)")
"""Percent-encoded reserved characters (RFC 3986 section 2.2), but for the two that are wildcards."""


def parts_from_letter(rules: Sequence[Rule], path: str) -> bool:
    """Whether RFC 9309 read to the letter may decide otherwise than engines do: some reserved character is encoded."""
    return bool(RESERVED.search(path)) or any(RESERVED.search(p) for r in rules for p in r.pattern.pieces)


def decide_by_letter(rules: Sequence[Rule], path: str) -> tuple[bool, Rule | None]:
    """As `decide`, with reserved characters compared as RFC 9309 section 2.2.2 has it: `%2F` is `/`.

    Engines compare them as written, and so does every decision here; this is for a note beside it.
    """

    def plain(text: str) -> str:
        return RESERVED.sub(lambda m: chr(int(m[1], 16)), text)

    loose = [replace(r, pattern=replace(r.pattern, pieces=tuple(map(plain, r.pattern.pieces)))) for r in rules]
    text = plain(comparable_path(path))
    hits = [(weight(rule, i), i) for i, rule in enumerate(loose) if matches(rule.pattern, text)]
    if path == ALWAYS_ALLOWED or not hits:
        return True, None
    rule = rules[max(hits)[1]]
    return rule.allow, rule
