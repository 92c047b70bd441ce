"""One request at a time: bounded in size and time, paced by host, errors in plain words."""

from __future__ import annotations

import asyncio
import contextlib
import email.utils
import ipaddress
import re
import time
from collections.abc import AsyncIterator, Iterable, Mapping
from datetime import UTC, datetime
from types import MappingProxyType, TracebackType
from typing import NamedTuple, Self

from indrel.base.version import __version__
from indrel.core.address import Parts, normalise, split
from indrel.core.answers import FINAL, Failure
from indrel.core.robots.access import MAX_HOPS
from indrel.core.robots.file import READ_BYTES
from indrel.gather.answers import Answer
from indrel.sources import coding
from indrel.sources.client import PRIVATE, Client, Request, RequestFailed, Response
from indrel.sources.options import Connect, GatherOptions

USER_AGENT = f"Indrel/{__version__}"
NOT_ASKED = "not requested: the server that --connect names does not speak this protocol"
FAILED = (RequestFailed, OSError, ValueError)
"""What a request may end with."""

_HEADERS = {"User-Agent": USER_AGENT, "Accept": "*/*", "Accept-Encoding": "gzip, deflate"}
RETRIED = frozenset({429, 500, 502, 503, 504})
BACKOFF = (0.5, 1.5)
"""Pauses before the second and third try, in seconds."""

LATER = 1.0
"""Seconds after which URLs that returned 5xx are requested once more, at the end of a crawl."""

LONGEST_WAIT = 30.0
"""A `Retry-After` beyond this is not waited for."""

WHOLE = 2
"""Times the time-out that a whole answer may take; one that has begun is not asked for again."""

STEP = 65_536

KEPT_HEADERS = frozenset(
    {"content-type", "content-length", "location", "x-robots-tag", "link", "last-modified", "retry-after"}
)


class Pace:
    """Lets requests to one host go at most `rate` a second, and not before a pause has passed."""

    def __init__(self, rate: float) -> None:
        self._gap = 1 / rate if rate > 0 else 0.0
        self._next = 0.0

    def pause(self, seconds: float) -> None:
        self._next = max(self._next, time.monotonic() + seconds)

    async def turn(self) -> None:
        now = time.monotonic()
        if self._gap == 0 and self._next <= now:
            return
        slot = max(now, self._next)
        self._next = slot + self._gap
        if slot > now:
            await asyncio.sleep(slot - now)


def explain(error: BaseException) -> str:
    """A failed request in plain words."""
    return failure_of(error)[1]


def failure_of(error: BaseException) -> tuple[Failure, str]:
    """What kind of failure a failed request is, and that in plain words."""
    if isinstance(error, RequestFailed):
        return error.failure, str(error)
    return Failure.OTHER, f"the request failed ({type(error).__name__})"


def retry_after(value: str | None) -> float | None:
    """The seconds that a `Retry-After` header asks for (RFC 9110 section 10.2.3)."""
    if not value:
        return None
    if re.fullmatch(r"\s*[0-9]{1,9}\s*", value):
        return float(value)
    try:
        when = email.utils.parsedate_to_datetime(value)
    except (ValueError, TypeError):
        return None
    when = when if when.tzinfo else when.replace(tzinfo=UTC)
    return max(0.0, (when - datetime.now(UTC)).total_seconds())


def is_private(address: str) -> bool:
    """Whether an IP address is none of the public network: private, loopback, link-local, metadata, unspecified ..."""
    try:
        found = ipaddress.ip_address(address.strip("[]").partition("%")[0])
    except ValueError:
        return False
    return not (getattr(found, "ipv4_mapped", None) or found).is_global


class Sent(NamedTuple):
    """What is sent beside an address: more headers, and a body."""

    method: str = "GET"
    headers: Mapping[str, str] = MappingProxyType({})
    data: bytes | None = None


class Fetcher:
    """Fetches for one audit. Use as an asynchronous context manager.

    `own` are the origins of what was asked for, that of SOURCE first. Extra headers (they may hold credentials) go there only:
    same scheme, host and port. Their hosts are trusted, and so are the addresses *and ports* that `--connect` names; no
    other name leads to a private address.
    """

    def __init__(self, options: GatherOptions, own: Iterable[str]) -> None:
        self.options = options
        origins = list(own)
        self._own = frozenset(origins)
        self._scheme = split(origins[0] + "/").scheme if origins else "https"
        self._connect = {c.host.lower(): c for c in options.connect}
        self._hosts = frozenset(split(o + "/").host for o in self._own)
        self._places = frozenset((c.address.strip("[]"), c.port) for c in options.connect)
        self._spoken: set[tuple[str, str]] = set()  # place and protocol that were found to go together
        self._unspoken: set[tuple[str, str]] = set()
        self._paces: dict[str, Pace] = {}
        self._client: Client | None = None
        self.requests = 0

    async def __aenter__(self) -> Self:
        timeout = self.options.timeout
        self._client = Client(timeout, timeout * WHOLE, max(1, self.options.parallel))
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._client:
            self._client.close()

    def pace(self, host: str) -> Pace:
        found = self._paces.get(host)
        if found is None:
            found = self._paces[host] = Pace(self.options.rate)
        return found

    async def get(self, url: str, limit: int, tries: int = 3, bodies: bool = True, agent: str | None = None) -> Answer:
        """Ask for an address, once or again where that may help; read at most `limit` bytes.

        With `bodies` false, only HTML bodies are read; `agent` asks under another name. Redirects are not followed.
        """
        for attempt in range(tries):
            answer = await self._once(url, limit, bodies, agent)
            if attempt + 1 == tries or (answer.status is not None and answer.status not in RETRIED):
                return answer
            if answer.failure in FINAL or (answer.status in (500, 502, 504) and attempt):
                return answer
            wait = retry_after(answer.header("retry-after"))
            if wait is not None and wait > LONGEST_WAIT:
                return answer
            pause = BACKOFF[attempt] if wait is None else max(wait, BACKOFF[0])
            if answer.status in (429, 503):
                self.pace(split(url).host).pause(pause)
            else:
                await asyncio.sleep(pause)
        return answer

    async def pass_on(self, url: str, limit: int, sent: Sent) -> Answer:
        """What a page in a browser asks for, once, as it asks; all headers of the answer are kept."""
        return await self._once(url, limit, True, None, sent)

    async def _once(self, url: str, limit: int, bodies: bool, agent: str | None, sent: Sent | None = None) -> Answer:
        try:
            async with self.open(url, agent, sent) as response:
                answer = Answer(url, response.status, headers=_headers(response, None if sent else KEPT_HEADERS))
                if not bodies and not _may_be_html(answer):
                    answer.octets = _length(response.header("content-length"))
                    return answer
                await self._read(response, answer, limit)
                return answer
        except FAILED as error:
            failure, said = failure_of(error)
            return Answer(url, None, said, failure=failure)

    @staticmethod
    async def _read(response: Response, answer: Answer, limit: int) -> None:
        """Read the body up to `limit` bytes; what came before the connection broke off is kept."""
        chunks: list[bytes] = []
        try:
            async for chunk in coding.body(response):
                chunks.append(chunk)
                answer.octets += len(chunk)
                if answer.octets > limit:
                    answer.cut = True
                    break
        except RequestFailed as error:
            if answer.status is not None and answer.status < 300:
                raise
            answer.error = explain(error)
        answer.body = b"".join(chunks)[:limit]

    @contextlib.asynccontextmanager
    async def open(self, url: str, agent: str | None = None, sent: Sent | None = None) -> AsyncIterator[Response]:
        """One request, its body unread; what is left of it is not."""
        response = await self._send(url, agent, sent or Sent())
        try:
            yield response
        finally:
            response.close()

    async def _send(self, url: str, agent: str | None, sent: Sent) -> Response:
        assert self._client is not None
        parts = split(url)
        await self.pace(parts.host).turn()
        self.requests += 1
        if not self.serves(url):
            raise RequestFailed(Failure.NOT_ASKED, NOT_ASKED)
        trusted = parts.host in self._hosts or (parts.host.strip("[]"), _port(parts)) in self._places
        connect = self._connect.get(parts.host)
        if not trusted and connect is None and is_private(parts.host):
            raise RequestFailed(Failure.PRIVATE, PRIVATE)
        own = dict(self.options.headers) if parts.origin in self._own else {}
        headers = _merged(_HEADERS, sent.headers, own, {"User-Agent": agent} if agent else {})
        request = Request(url, headers, sent.method, sent.data, guard=None if trusted else _is_public)
        if connect is None:
            return await self._client.send(request)
        request = request._replace(connect=connect.place, guard=None)
        if connect.plain and parts.scheme == "https":
            # A proxy that ends TLS stands before the server as a rule, and says which scheme was meant.
            request = request._replace(url=f"http{url[5:]}", headers={**headers, "X-Forwarded-Proto": "https"})
            if not _is_here(connect.address):  # credentials for https never go over the network in the clear
                kept = {
                    name: value for name, value in request.headers.items() if name not in dict(self.options.headers)
                }
                request = request._replace(headers=kept)
        try:
            response = await self._client.send(request)
        except RequestFailed as error:
            raise self._foreign(connect, parts.scheme, error.failure) or error from error
        if response.status == 400 and (other := self._foreign(connect, parts.scheme, Failure.BROKEN)):
            response.close()
            raise other
        self._spoken.add((connect.place, parts.scheme))
        return response

    def _foreign(self, connect: Connect, scheme: str, failure: Failure) -> RequestFailed | None:
        """What to say of a failure where the server that `--connect` names has been found to speak the other protocol."""
        other = "http" if scheme == "https" else "https"
        wrong = failure is Failure.TLS or (scheme == "http" and failure is Failure.BROKEN)
        if (
            connect.plain
            or not wrong
            or (connect.place, other) not in self._spoken
            or (connect.place, scheme) in self._spoken
        ):
            return None
        self._unspoken.add((connect.place, scheme))
        return RequestFailed(Failure.NOT_ASKED, NOT_ASKED)

    def serves(self, url: str) -> bool:
        """Whether a URL can be requested: a server that `--connect` names speaks one protocol. False: the URL is unknown."""
        parts = split(url)
        connect = self._connect.get(parts.host)
        if connect is None:
            return True
        if connect.plain:
            return parts.scheme == self._scheme
        return (connect.place, parts.scheme) not in self._unspoken


def _merged(*many: Mapping[str, str]) -> dict[str, str]:
    """Headers with the names as they are written; of one name in any case the last."""
    found = {name.lower(): (name, value) for one in many for name, value in one.items()}
    return dict(found.values())


def _port(parts: Parts) -> int:
    return parts.port or (443 if parts.scheme == "https" else 80)


def _length(value: str | None) -> int:
    """The bytes that a Content-Length promises, as far as a snapshot can hold the number."""
    return min(int(value), 1 << 62) if value and re.fullmatch(r"[0-9]{1,30}", value) else 0


def _is_here(address: str) -> bool:
    """Whether an address is this machine."""
    try:
        return ipaddress.ip_address(address.strip("[]")).is_loopback
    except ValueError:
        return address == "localhost"


def _is_public(address: str) -> bool:
    return not is_private(address)


def _headers(response: Response, kept: frozenset[str] | None) -> dict[str, list[str]]:
    """An answer's headers, the ones that are kept or all."""
    found: dict[str, list[str]] = {}
    for name, value in response.headers:
        if kept is None or name in kept:
            found.setdefault(name, []).append(value)
    return found


def _may_be_html(answer: Answer) -> bool:
    media = (answer.header("content-type") or "").lower()
    return not media or "html" in media


async def follow_robots(fetcher: Fetcher, url: str) -> tuple[list[str], Answer]:
    """Ask for a robots.txt, following redirects across hosts; the addresses that redirected, and the last answer."""
    hops: list[str] = []
    answer = await fetcher.get(url, READ_BYTES)
    while answer.redirects and len(hops) <= MAX_HOPS:
        target = normalise(answer.header("location") or "", answer.url)
        if not target:
            break
        hops.append(answer.url)
        answer = await fetcher.get(target, READ_BYTES)
    return hops, answer
