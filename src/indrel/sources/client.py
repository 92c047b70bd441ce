"""The HTTP client, imported without the certificates that it would load at once, twice, whatever is asked for."""

from __future__ import annotations

import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache


@contextmanager
def _certificates_later() -> Iterator[None]:
    """Contexts that this thread makes meanwhile trust no one: each load takes 75 ms of CPU, for plain HTTP as well."""
    load, own = ssl.SSLContext.set_default_verify_paths, threading.get_ident()

    def later(context: ssl.SSLContext) -> None:
        if threading.get_ident() != own:
            load(context)

    ssl.SSLContext.set_default_verify_paths = later  # type: ignore[method-assign, assignment]
    try:
        yield
    finally:
        del ssl.SSLContext.set_default_verify_paths


with _certificates_later():
    import aiohttp as aiohttp

FAILED = (TimeoutError, aiohttp.ClientError, OSError, ValueError)
"""What a request may end with."""


@cache
def tls() -> ssl.SSLContext:
    """Whom this machine trusts, read once. The client's own context knows no certificates: give it this one."""
    context = ssl.create_default_context()
    context.set_alpn_protocols(("http/1.1",))
    return context
