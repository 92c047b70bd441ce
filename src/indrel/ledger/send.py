"""Delivers addresses by the IndexNow protocol, to the one endpoint that the user names."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Iterator, Sequence

from indrel.base.errors import IndrelError, UsageError
from indrel.base.version import __version__
from indrel.core.address import normalise, split
from indrel.sources.client import Client, Request, RequestFailed

MOST = 10_000
"""Addresses in one delivery (IndexNow)."""

_KEY = re.compile(r"[A-Za-z0-9-]{8,128}")
_SAID = {
    400: "it could not read what was sent",
    403: "it does not accept the key: the key file must be on the host, with the key in it",
    422: "the URLs are not of the host, or the key does not match",
    429: "too many requests: wait, then send again",
}


class SendError(IndrelError):
    """An endpoint refused or did not answer; what it had taken before is marked as done."""


def check(endpoint: str, key: str, key_location: str | None = None) -> str:
    """The endpoint, normalised. Raises UsageError for one that is no address, and for a key that is none."""
    url = normalise(endpoint)
    if url is None:
        raise UsageError(f"--to {endpoint}: write the URL of an endpoint, such as https://engine.example/indexnow")
    if not _KEY.fullmatch(key):
        raise UsageError("the key must be 8 to 128 letters, digits and hyphens (--key, or INDREL_INDEXNOW_KEY)")
    if key_location and normalise(key_location) is None:
        raise UsageError(f"--key-location {key_location}: write the URL of the key file")
    return url


def bodies(urls: Sequence[str], key: str, key_location: str | None = None) -> Iterator[dict[str, object]]:
    """What is sent: one delivery a host, of at most `MOST` addresses."""
    hosts: dict[str, list[str]] = {}
    for url in urls:
        hosts.setdefault(split(url).host, []).append(url)
    for host, own in hosts.items():
        for start in range(0, len(own), MOST):
            body: dict[str, object] = {"host": host, "key": key, "urlList": own[start : start + MOST]}
            if key_location and split(normalise(key_location) or "").host == host:
                body["keyLocation"] = key_location
            yield body


def deliver(endpoint: str, body: dict[str, object], timeout: float = 20.0) -> None:
    """Post one delivery. Raises SendError unless the endpoint says 200 or 202; redirects are not followed."""
    host, place = body["host"], split(endpoint).host

    async def post() -> int:
        client = Client(timeout, timeout)
        headers = {"User-Agent": f"Indrel/{__version__}", "Content-Type": "application/json"}
        try:
            return (await client.send(Request(endpoint, headers, "POST", json.dumps(body).encode()))).status
        finally:
            client.close()

    try:
        status = asyncio.run(post())
    except RequestFailed as error:
        raise SendError(f"{place} did not accept the URLs of {host}: {error}") from error
    if status not in (200, 202):
        raise SendError(
            f"{place} did not accept the URLs of {host}: {status}, {_SAID.get(status, 'not a response of the protocol')}"
        )
