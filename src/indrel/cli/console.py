"""Consoles and progress: results on standard output, hints on standard error."""

from __future__ import annotations

import io
import json
import os
import shutil
import signal
import sys
import tempfile
import textwrap
import time
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from io import StringIO
    from pathlib import Path

    from rich.console import Console

    from indrel.reports.terminal import Terminal


def plain_wanted() -> bool:
    return bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"


_sink: StringIO | None = None
"""What takes the place of standard output, while an answer goes to a file."""


@contextmanager
def into(sink: StringIO) -> Iterator[StringIO]:
    """Results go into `sink` for a while, without colour, 100 columns wide."""
    global _sink
    before, _sink = _sink, sink
    try:
        yield sink
    finally:
        _sink = before


def out_console() -> Console:
    from rich.console import Console

    if _sink is not None:
        return Console(
            file=_sink, markup=False, highlight=False, emoji=False, no_color=True, legacy_windows=False, width=100
        )
    return Console(
        markup=False, highlight=False, emoji=False, no_color=plain_wanted() or None, legacy_windows=False,
        width=None if sys.stdout.isatty() or os.environ.get("COLUMNS") else 100,
    )  # fmt: skip


def write_json(document: object) -> None:
    """An answer as JSON, a line of standard output."""
    out_console().file.write(json.dumps(document, ensure_ascii=False) + "\n")


def write_whole(pieces: Iterable[bytes]) -> None:
    """A long result on standard output, none of it before all of it was made: an interrupt leaves no half document."""
    with tempfile.SpooledTemporaryFile(1 << 26) as held:
        held.writelines(pieces)
        held.seek(0)
        before = signal.signal(signal.SIGINT, signal.SIG_IGN)
        try:
            out = out_console().file
            for piece in io.TextIOWrapper(held, "utf-8", newline=""):
                out.write(piece)
            out.flush()
        finally:
            signal.signal(signal.SIGINT, before)


def terminal() -> Terminal:
    from indrel.reports.terminal import Terminal

    return Terminal(out_console())


def say(text: str, quiet: bool = False) -> None:
    """A hint on standard error; in a terminal it wraps between words."""
    from indrel.base.plain import safe

    if quiet:
        return
    shown = safe(text)
    if sys.stderr.isatty():
        columns = max(40, shutil.get_terminal_size().columns)
        shown = textwrap.fill(shown, columns, break_long_words=False, break_on_hyphens=False, subsequent_indent="  ")
    print(shown, file=sys.stderr)


def files(written: Sequence[Path]) -> str:
    """Files in a line; of the ones that differ only in their endings the rest as endings."""
    named: dict[Path, list[str]] = {}
    for file in written:
        named.setdefault(file.with_suffix(""), []).append(file.suffix)
    return ", ".join(f"{stem}{', '.join(endings)}" for stem, endings in named.items())


LATELY, SURE = 15.0, 5.0
"""Seconds over which speed is measured, and after which it is believed."""


class ProgressLine:
    """One line on standard error that says how far gathering has come; nothing where it is no terminal."""

    def __init__(self, quiet: bool) -> None:
        self.quiet = quiet
        self.shows = not quiet and sys.stderr.isatty() and not os.environ.get("NO_COLOR")
        self._seen: deque[tuple[float, int]] = deque([(time.monotonic(), 0)])
        self._last = 0.0
        self._drawn = False

    def stage(self, text: str) -> None:
        """What is being done now, beside the reading of pages."""
        if self.shows:
            self._draw(text)

    def update(self, read: int, waiting: int, what: str) -> None:
        """Pages read and left, how fast it went lately, and, once that can be told, how long it will take at least."""
        now = time.monotonic()
        if not self.shows or now - self._last < 1:
            return
        self._last = now
        self._seen.append((now, read))
        while len(self._seen) > 2 and now - self._seen[0][0] > LATELY:
            self._seen.popleft()
        began, before = self._seen[0]
        rate = (read - before) / max(now - began, 0.001)
        soon = f", at least {duration(waiting / rate)} more" if rate > 0 and waiting and now - began > SURE else ""
        self._draw(f"reading {what}: {read:,} pages, {rate:,.0f} per second, {waiting:,} more found{soon}")

    def _draw(self, text: str) -> None:
        sys.stderr.write("\r\x1b[2K" + text[: max(20, (_columns() or 80) - 1)])
        sys.stderr.flush()
        self._drawn = True

    def note(self, text: str) -> None:
        self.clear()
        say(text, self.quiet)

    def clear(self) -> None:
        if self._drawn:
            sys.stderr.write("\r\x1b[2K")
            sys.stderr.flush()
            self._drawn = False


def duration(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


def _columns() -> int:
    try:
        return os.get_terminal_size(sys.stderr.fileno()).columns
    except OSError:
        return 80
