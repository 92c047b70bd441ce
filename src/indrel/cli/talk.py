"""Consoles and progress: results on standard output, talk on standard error."""

from __future__ import annotations

import os
import sys
import time
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console

    from indrel.reports.terminal import Terminal


def plain_wanted() -> bool:
    return bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"


def out_console() -> Console:
    from rich.console import Console

    return Console(
        markup=False, highlight=False, emoji=False, no_color=plain_wanted() or None, legacy_windows=False,
        width=None if sys.stdout.isatty() or os.environ.get("COLUMNS") else 100,
    )  # fmt: skip


def terminal() -> Terminal:
    from indrel.reports.terminal import Terminal

    return Terminal(out_console())


def say(text: str, quiet: bool = False) -> None:
    """A line of talk on standard error."""
    from indrel.plain import safe

    if not quiet:
        print(safe(text), file=sys.stderr)


class ProgressLine:
    """One line on standard error that says how far gathering has come; nothing where it is no terminal."""

    def __init__(self, quiet: bool) -> None:
        self.quiet = quiet
        self.shows = not quiet and sys.stderr.isatty() and not os.environ.get("NO_COLOR")
        self._began = time.monotonic()
        self._last = 0.0
        self._drawn = False

    def update(self, read: int, known: int, what: str) -> None:
        now = time.monotonic()
        if not self.shows or now - self._last < 0.2:
            return
        self._last = now
        rate = read / max(now - self._began, 0.001)
        left = max(known - read, 0)
        soon = f", about {duration(left / rate)} left" if rate > 0 and left else ""
        text = f"reading {what}: {read:,} pages, {rate:,.0f} a second, {known:,} addresses known{soon}"
        sys.stderr.write("\r\x1b[2K" + text[: max(20, _columns() - 1)])
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
