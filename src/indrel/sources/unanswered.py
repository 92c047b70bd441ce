"""Addresses that do not answer: facts of theirs, or of a host that has stopped answering."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from indrel.gather.answers import Answer

GIVE_UP_AFTER = 8
"""Addresses of one host in a row without an answer after which it is asked whether it is there at all."""


class Silence:
    """Holds back addresses that did not answer until it is clear that their host is still there.

    `is_there` asks a host's start page; `keep` takes what came of an address. A host that does not answer
    either is `lost`, with the last such: its silence is then no fact of those addresses.
    """

    def __init__(self, is_there: Callable[[str], Awaitable[bool]], keep: Callable[[Answer], None]) -> None:
        self.lost: dict[str, Answer] = {}
        self._is_there = is_there
        self._keep = keep
        self._row: dict[str, int] = {}
        self._held: dict[str, list[Answer]] = {}
        self._asking: dict[str, asyncio.Lock] = {}

    async def count(self, host: str, answer: Answer) -> None:
        """An address did not answer."""
        self._held.setdefault(host, []).append(answer)
        self._row[host] = self._row.get(host, 0) + 1
        if self._row[host] < GIVE_UP_AFTER:
            return
        async with self._asking.setdefault(host, asyncio.Lock()):
            if self._row[host] < GIVE_UP_AFTER or host in self.lost:
                return
            if await self._is_there(answer.url):
                self.answered(host)
            else:
                self.lost[host] = answer
                self._held.pop(host, None)

    def answered(self, host: str) -> None:
        """The host is there: what was held back are facts."""
        self._row[host] = 0
        for answer in self._held.pop(host, ()):
            self._keep(answer)

    def end(self) -> None:
        """Nothing more is asked."""
        for host in list(self._held):
            self.answered(host)
