"""Which addresses wait to be fetched: pure logic, no network."""

from __future__ import annotations

import re
from collections import deque

MAX_CLICKS = 60
ALIKE_CLICKS = 12
ALIKE = 300
"""Traps (endless calendars, growing paths): links further than MAX_CLICKS from what was known at first
are not followed, nor, beyond ALIKE_CLICKS, more than ALIKE addresses that differ only in their numbers."""

_NUMBER = re.compile(r"[0-9]+")


class Frontier:
    """Which addresses wait to be fetched, in order, and how far from the first ones they are."""

    def __init__(self) -> None:
        self.queue: deque[tuple[str, int, int]] = deque()
        self.seen: set[int] = set()
        self.alike: dict[str, int] = {}
        self.trapped = 0
        self.trap_example = ""

    def add(self, number: int, url: str, clicks: int, hops: int = 0) -> bool:
        """Queue an address unless it was queued before or looks like a trap."""
        if number in self.seen:
            return False
        if clicks > ALIKE_CLICKS and self._trap(url, clicks):
            return False
        self.seen.add(number)
        self.queue.append((url, clicks, hops))
        return True

    def _trap(self, url: str, clicks: int) -> bool:
        shape = _NUMBER.sub("0", url)
        count = self.alike[shape] = self.alike.get(shape, 0) + 1
        if clicks <= MAX_CLICKS and count <= ALIKE:
            return False
        self.trapped += 1
        self.trap_example = self.trap_example or url
        return True
