"""Text files of URLs, one per line."""

from __future__ import annotations

from pathlib import Path

from indrel.base.errors import InputError
from indrel.core.address import normalise

MOST_BYTES = 512 << 20


def read_urls(file: Path, paths: bool = False) -> list[str]:
    """The URLs of a file, each once, and paths if they are accepted; `#` begins a comment line.

    Raises InputError with the line for anything else.
    """
    try:
        with file.open("rb") as raw:
            lines = raw.read(MOST_BYTES).decode("utf-8-sig", "replace").splitlines()
    except OSError as error:
        raise InputError(f"{file} cannot be read: {error.strerror}") from error
    found = []
    for number, line in enumerate(lines, 1):
        text = line.strip()
        if text and not text.startswith("#"):
            url = text if paths and text.startswith("/") else normalise(text)
            if url is None:
                raise InputError(f"{file}:{number}: {text[:80]!r} is not an http(s) URL{' or a path' if paths else ''}")
            found.append(url)
    return list(dict.fromkeys(found))


def lists_urls(file: Path) -> bool:
    """Whether the first line of a file that is no comment is a URL."""
    try:
        with file.open("rb") as raw:
            head = raw.read(1 << 16).decode("utf-8-sig", "replace")
    except OSError:
        return False
    lines = (line.strip() for line in head.splitlines())
    return next((line for line in lines if line and not line.startswith("#")), "").startswith(("http://", "https://"))
