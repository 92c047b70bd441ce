"""What a server answered, in words."""

from __future__ import annotations

from http import HTTPStatus

NO_SUCH_HOST = "there is no such host"
"""The failure of a name without an address, which nobody can mend on a server."""

DOWN = ("no connection", NO_SUCH_HOST, "TLS:")
"""How errors begin that mean that nothing answers at a host."""


def status_text(status: int | None, error: str | None) -> str:
    """`404 Not Found`, or what kept an answer from coming."""
    if status is None:
        return f"no answer: {error}" if error else "no answer"
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)
