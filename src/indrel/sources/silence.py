"""Addresses that do not answer: facts of theirs, or of a host that has stopped answering."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

GIVE_UP_AFTER = 8
"""Addresses of one host in a row without an answer after which it is asked whether it is there at all."""


class Silence:
    """Holds back addresses that did not answer until it is clear that their host is still there.

    `is_there` asks a host's start page; `keep` takes an address and why it did not answer. A host that does not answer
    either is `lost`, with the reason: its silence is then no fact of those addresses.
    """

    def __init__(self, is_there: Callable[[str], Awaitable[bool]], keep: Callable[[str, str], None]) -> None:
        self.lost: dict[str, str] = {}
        self._is_there = is_there
        self._keep = keep
        self._row: dict[str, int] = {}
        self._held: dict[str, list[tuple[str, str]]] = {}
        self._asking: dict[str, asyncio.Lock] = {}

    async def count(self, host: str, url: str, error: str) -> None:
        """An address did not answer."""
        self._held.setdefault(host, []).append((url, error))
        self._row[host] = self._row.get(host, 0) + 1
        if self._row[host] < GIVE_UP_AFTER:
            return
        async with self._asking.setdefault(host, asyncio.Lock()):
            if self._row[host] < GIVE_UP_AFTER or host in self.lost:
                return
            if await self._is_there(url):
                self.answered(host)
            else:
                self.lost[host] = error
                self._held.pop(host, None)

    def answered(self, host: str) -> None:
        """The host is there: what was held back are facts."""
        self._row[host] = 0
        for url, error in self._held.pop(host, ()):
            self._keep(url, error)

    def end(self) -> None:
        """Nothing more is asked."""
        for host in list(self._held):
            self.answered(host)
