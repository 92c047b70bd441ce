"""Files: written whole or not at all; how a snapshot's begins."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from indrel.base.errors import UsageError

HEAD = 12
"""Bytes of a file that tell whether it is a snapshot."""


def begins_snapshot(head: bytes) -> bool:
    """Whether bytes are the beginning of a file as snapshots are: of a database."""
    return head[8:HEAD] == b"DUCK"


def is_snapshot(named: str) -> bool:
    """Whether a name is that of a file as snapshots are."""
    try:
        with Path(named).open("rb") as file:
            return begins_snapshot(file.read(HEAD))
    except OSError:
        return False


ARCHIVES = (".warc", ".warc.gz")
"""How the names of WARC files end."""


def archives_in(folder: Path) -> list[Path]:
    """The WARC files of a folder, if it holds nothing else."""
    try:
        files = [path for path in folder.iterdir() if not path.name.startswith(".")]
    except OSError:
        return []
    return files if all(path.name.lower().endswith(ARCHIVES) and path.is_file() for path in files) else []


def write_whole(file: Path, content: bytes | Iterable[bytes]) -> None:
    """Put a file in place in one step, so that it is never half there."""
    write_together([(file, content)])


def write_together(contents: Iterable[tuple[Path, bytes | Iterable[bytes]]]) -> None:
    """Put files in place, each in one step, and none before all are written; pieces are written as they are made."""
    written: list[tuple[Path, Path]] = []
    try:
        for file, content in contents:
            try:
                written.append((_beside(file, (content,) if isinstance(content, bytes) else content), file))
            except OSError as error:
                raise UsageError(f"{file} cannot be written: {error.strerror}") from error
        while written:
            name, file = written[0]
            try:
                name.replace(file)
            except OSError as error:
                raise UsageError(f"{file} cannot be written: {error.strerror}") from error
            del written[0]
    finally:
        for name, _ in written:
            name.unlink(missing_ok=True)


def _beside(file: Path, content: Iterable[bytes]) -> Path:
    handle, name = tempfile.mkstemp(prefix=f".{file.name}.", dir=file.parent)
    try:
        with os.fdopen(handle, "wb") as out:
            out.writelines(content)
        Path(name).chmod(0o644)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    return Path(name)
