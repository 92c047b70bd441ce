"""Indrel audits what search crawlers may fetch and list on a site, and names the line that decides it.

As a library: `audit(...)` reads a site, a folder, an archive or a snapshot, `open_snapshot(...)` opens what was kept; both give
an `Audit`, whose `addresses()` and `findings()` are pandas frames, and which answers all questions of the command line. `history(...)`
goes over the audits of a site, `Ledger(...)` opens a ledger, `frame(...)` makes a frame of any list (see `indrel.library`).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from indrel.base.errors import IndrelError
from indrel.base.version import __version__

if TYPE_CHECKING:
    from indrel.library import Audit as Audit
    from indrel.library import Ledger as Ledger
    from indrel.library import audit as audit
    from indrel.library import frame as frame
    from indrel.library import history as history
    from indrel.library import open_snapshot as open_snapshot


__all__ = ["Audit", "IndrelError", "Ledger", "__version__", "audit", "frame", "history", "open_snapshot"]


def __dir__() -> list[str]:
    return sorted(__all__)


def __getattr__(name: str) -> object:
    """The library is loaded when it is first used: the command line has no need of it."""
    if name in __all__:
        from indrel import library

        return getattr(library, name)
    raise AttributeError(f"module 'indrel' has no attribute {name!r}")
