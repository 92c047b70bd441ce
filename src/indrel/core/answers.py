"""What a server answered, in words."""

from __future__ import annotations

from enum import Enum, auto
from http import HTTPStatus

NO_SUCH_HOST = "there is no such host"
"""What is said and kept of a name without an address, which nobody can fix on a server."""

NO_SUCH_FILE = "no such file"
"""What is reported of a folder's robots.txt that is not there: no server answered."""


NOT_HTTP = "the response is not HTTP"


class Failure(Enum):
    """What kept an answer from coming, beside the words for it."""

    NO_HOST = auto()
    NO_CONNECTION = auto()
    TLS = auto()
    CERTIFICATE = auto()
    PRIVATE = auto()
    """The name leads into a private network: it was not asked."""

    NOT_ASKED = auto()
    """`--connect` names no server that speaks the URL's protocol: it was not requested."""

    SILENT = auto()
    """No answer began in time."""

    SLOW = auto()
    """An answer began, and did not end in time."""

    BROKEN = auto()
    """What came was no whole answer."""

    OTHER = auto()


DOWN = frozenset({Failure.NO_HOST, Failure.NO_CONNECTION, Failure.TLS, Failure.CERTIFICATE})
"""Nothing answers at the host."""

FINAL = frozenset({Failure.NO_HOST, Failure.CERTIFICATE, Failure.PRIVATE, Failure.NOT_ASKED, Failure.SLOW})
"""Asking once more would change nothing."""


def status_of(written: str | bytes) -> int | None:
    """The status of a response's first line: three digits (RFC 9112 section 4), else None: it is not HTTP."""
    return int(written) if len(written) == 3 and written.isascii() and written.isdigit() else None


def status_text(status: int | None, error: str | None) -> str:
    """`404 Not Found`, or what kept an answer from coming."""
    if status is None:
        return f"no response: {error}" if error else "no response"
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)
