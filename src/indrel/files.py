"""Files, whole or not at all."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from indrel.errors import UsageError


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
