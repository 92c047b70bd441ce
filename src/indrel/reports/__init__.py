"""One module a format; `WRITERS` is the one table from ending to writer."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.base.errors import UsageError
from indrel.base.extras import require
from indrel.base.files import write_together
from indrel.core.model import Verdict

if TYPE_CHECKING:
    from indrel.decide.site import Site

Writer = Callable[[Verdict, "Site"], bytes | Iterable[bytes]]
"""A report whole, or in pieces where it may be long."""


def _by_module(name: str, function: str = "render") -> Writer:
    """A writer that is imported when it is used."""

    def write(verdict: Verdict, site: Site) -> bytes | Iterable[bytes]:
        found: bytes | Iterable[bytes] = getattr(import_module(f"indrel.reports.{name}"), function)(verdict, site)
        return found

    return write


WRITERS: dict[str, Writer] = {
    ".html": _by_module("page"), ".json": _by_module("json_doc"), ".csv": _by_module("csv_table"), ".xlsx": _by_module("workbook"),
    ".md": _by_module("markdown"), ".sarif": _by_module("sarif"), ".png": _by_module("figures", "render_png"),
    ".svg": _by_module("figures", "render_svg"),
}  # fmt: skip

DRAWN = (".png", ".svg")
"""Endings that need the extra `figures`."""


def check_endings(files: Sequence[Path], endings: Iterable[str] = tuple(WRITERS)) -> None:
    """Refuse, before any work is done, an ending that no writer has or a folder that is not there."""
    for file in files:
        if file.suffix.lower() not in endings:
            raise UsageError(f"{file}: no report ends like that; choose one of {' '.join(endings)}")
        if file.suffix.lower() in DRAWN:
            require("matplotlib", str(file))
        if not file.parent.is_dir():
            raise UsageError(f"{file}: the folder {file.parent} does not exist")


def write(files: Sequence[Path], verdict: Verdict, site: Site) -> None:
    """Write reports, all of them made before the first is put in place, each whole or not at all."""
    write_together((file, WRITERS[file.suffix.lower()](verdict, site)) for file in files)
