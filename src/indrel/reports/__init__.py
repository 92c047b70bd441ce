"""One module a format; `WRITERS` is the one table from ending to writer."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

from indrel.core.model import Verdict
from indrel.decide.site import Site
from indrel.errors import UsageError
from indrel.reports import csv_table, json_doc

Writer = Callable[[Verdict, Site], bytes]

WRITERS: dict[str, Writer] = {".json": json_doc.render, ".csv": csv_table.render}


def check_endings(files: Sequence[Path]) -> None:
    """Refuse, before any work is done, an ending that no writer has or a folder that is not there."""
    for file in files:
        if file.suffix.lower() not in WRITERS:
            raise UsageError(f"{file}: no report ends like that; choose one of {' '.join(WRITERS)}")
        if not file.parent.is_dir():
            raise UsageError(f"{file}: the folder {file.parent} does not exist")


def write(files: Sequence[Path], verdict: Verdict, site: Site) -> None:
    """Write reports, each whole or not at all."""
    for file in files:
        content = WRITERS[file.suffix.lower()](verdict, site)
        write_whole(file, content)


def write_whole(file: Path, content: bytes) -> None:
    """Put a file in place in one step, so that it is never half there."""
    try:
        handle, name = tempfile.mkstemp(prefix=f".{file.name}.", dir=file.parent)
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(content)
            Path(name).chmod(0o644)
            Path(name).replace(file)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise UsageError(f"{file} cannot be written: {error.strerror}") from error
