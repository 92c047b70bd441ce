"""How much memory a browser's processes hold, and which of them is ended when it is too much. Linux only."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import time
from pathlib import Path
from typing import NamedTuple

BETWEEN = 0.1
"""Seconds between two looks at what the known processes hold."""

FRESH = 0.5
"""Seconds after which the list of processes is made again."""

_PROC = Path("/proc")


class Process(NamedTuple):
    """A process of the browser, and the bytes that it holds and does not only map from a file."""

    number: int
    renders: bool
    held: int


def descendants(root: int) -> list[int]:
    """The processes that a process has started, and their own."""
    parents: dict[int, list[int]] = {}
    for entry in os.scandir(_PROC):
        if entry.name.isdecimal():
            with contextlib.suppress(OSError, ValueError, IndexError):
                after_name = Path(entry.path, "stat").read_bytes().rpartition(b")")[2].split()
                parents.setdefault(int(after_name[1]), []).append(int(entry.name))
    found, wanted = [], [root]
    while wanted:
        children = parents.get(wanted.pop(), [])
        found += children
        wanted += children
    return found


def process(number: int) -> Process | None:
    """What one process holds: its own memory, and what it shares but no file backs. None where it has ended."""
    try:
        held = 0
        for line in (_PROC / str(number) / "status").read_bytes().splitlines():
            if line.startswith((b"RssAnon:", b"RssShmem:")):
                held += int(line.split()[1]) << 10
        arguments = (_PROC / str(number) / "cmdline").read_bytes()
    except (OSError, ValueError, IndexError):
        return None
    return Process(number, b"--type=renderer" in arguments, held)


class MemoryWatch:
    """Ends the renderer that holds the most once a browser holds more than `limit` bytes; counts how often in `ended`."""

    def __init__(self, root: int, limit: int) -> None:
        self._root, self._limit = root, limit
        self.ended = 0

    async def watch(self) -> None:
        """Look on until cancelled."""
        if not _PROC.is_dir():
            return
        known: list[int] = []
        made = 0.0
        while True:
            if time.monotonic() - made > FRESH:
                known, made = descendants(self._root), time.monotonic()
            held = [one for number in known if (one := process(number)) is not None]
            if sum(one.held for one in held) > self._limit:
                self._end(held)
                made = 0.0
            await asyncio.sleep(BETWEEN)

    def _end(self, held: list[Process]) -> None:
        """End the largest renderer; where all of them together are small, the largest process: the browser is lost then."""
        renderers = [one for one in held if one.renders]
        few = sum(one.held for one in renderers) < self._limit // 4
        victim = max(held if few else renderers, key=lambda one: one.held)
        self.ended += 1
        with contextlib.suppress(OSError):
            os.kill(victim.number, signal.SIGKILL)
