"""One request at a time: bounded in size and time, paced by host, errors in plain words."""

from __future__ import annotations

import asyncio
import contextlib
import email.utils
import ipaddress
import os
import re
import socket
import ssl
import time
from collections.abc import AsyncIterator, Iterable, Mapping
from datetime import UTC, datetime
from functools import partial
from types import MappingProxyType, TracebackType
from typing import Any, NamedTuple, Self

from yarl import URL

from indrel import __version__
from indrel.core.address import normalise, split
from indrel.core.answers import FINAL, NO_SUCH_HOST, Failure
from indrel.core.robots.access import MAX_HOPS
from indrel.core.robots.file import MAX_OCTETS
from indrel.gather.keeping import Answer
from indrel.sources import coding
from indrel.sources.client import FAILED, aiohttp, tls
from indrel.sources.options import GatherOptions

USER_AGENT = f"Indrel/{__version__}"
RETRIED = frozenset({429, 500, 502, 503, 504})
BACKOFF = (0.5, 1.5)
"""Pauses before the second and third try, in seconds."""

LONGEST_WAIT = 30.0
"""A `Retry-After` beyond this is not waited for."""

WHOLE = 2
"""Times the time-out that a whole answer may take; one that has begun is not asked for again."""

STEP = 65_536
PRIVATE = "not asked: a private address"

ROBOTS_LIMIT = MAX_OCTETS * 4
"""Octets of robots.txt that are read: what stands over the limit is told, within reason."""

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


def failure_of(error: BaseException, begun: bool = False) -> tuple[Failure, str]:
    """What kind of failure a failed request is, and that in plain words; `begun`: an answer had begun."""
    if isinstance(error, asyncio.TimeoutError):
        return (Failure.SLOW, "the answer did not end in time") if begun else (Failure.SILENT, "no answer in time")
    if isinstance(error, aiohttp.ClientConnectorCertificateError):
        reason = getattr(error.certificate_error, "verify_message", "") or "not trusted"
        return Failure.CERTIFICATE, f"TLS: the certificate was refused ({reason})"
    if isinstance(error, aiohttp.ClientConnectorSSLError | ssl.SSLError):
        return Failure.TLS, "TLS: no secure connection could be made"
    if isinstance(error, PrivateAddress) or isinstance(getattr(error, "os_error", None), PrivateAddress):
        return Failure.PRIVATE, PRIVATE
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return Failure.NO_HOST, NO_SUCH_HOST
    if isinstance(error, aiohttp.ClientConnectorError):
        code = error.os_error.errno
        if isinstance(error.os_error, ConnectionResetError):
            return Failure.NO_CONNECTION, "no connection (the other side closed it at once)"
        why = (os.strerror(code) if code else error.os_error.strerror) or "refused"
        return Failure.NO_CONNECTION, f"no connection ({why})".lower()
    if isinstance(error, aiohttp.ServerDisconnectedError):
        return Failure.BROKEN, "the server closed the connection without an answer"
    if isinstance(error, coding.CodingError):
        return Failure.BROKEN, "the answer is not compressed as it says, or was cut short"
    if isinstance(error, aiohttp.ClientPayloadError):
        return Failure.BROKEN, "the connection broke off in the middle of the answer"
    if isinstance(error, aiohttp.ClientResponseError):
        return Failure.BROKEN, "the answer is not HTTP"
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


class PrivateAddress(OSError):
    """A name that a site gave leads into a private network: it is not asked."""


def is_private(address: str) -> bool:
    """Whether an IP address is none of the public network: private, loopback, link-local, metadata, unspecified ..."""
    try:
        found = ipaddress.ip_address(address.strip("[]").partition("%")[0])
    except ValueError:
        return False
    return not (getattr(found, "ipv4_mapped", None) or found).is_global


class _Resolver(aiohttp.ThreadedResolver):
    """Looks names up; those that are not trusted lead to public addresses or nowhere."""

    def __init__(self, trusted: frozenset[str]) -> None:
        super().__init__()
        self._trusted = trusted

    async def resolve(self, host: str, port: int = 0, family: Any = socket.AF_INET) -> list[Any]:
        found = list(await super().resolve(host, port, family))
        if host in self._trusted:
            return found
        public = [one for one in found if not is_private(one["host"])]
        if found and not public:
            raise PrivateAddress(PRIVATE)
        return public


class Sent(NamedTuple):
    """What is sent beside an address: more headers, and a body."""

    method: str = "GET"
    headers: Mapping[str, str] = MappingProxyType({})
    data: bytes | None = None


class Fetcher:
    """Fetches for one audit. Use as an asynchronous context manager.

    `own` are the origins of what was asked for. Extra headers (they may hold credentials) go there only: same scheme,
    host and port. Their hosts, and those that `--connect` names, are trusted; no other name leads to a private address.
    """

    def __init__(self, options: GatherOptions, own: Iterable[str]) -> None:
        self.options = options
        self._own = frozenset(own)
        self._connect = {c.host.lower(): c for c in options.connect}
        self._trusted = frozenset(
            {split(o + "/").host for o in self._own} | set(self._connect) | {c.address for c in options.connect}
        )
        self._plain: set[str] = set()
        self._paces: dict[str, Pace] = {}
        self._session: aiohttp.ClientSession | None = None
        self.requests = 0

    async def __aenter__(self) -> Self:
        timeout = aiohttp.ClientTimeout(
            total=self.options.timeout * WHOLE,
            connect=None,
            sock_connect=self.options.timeout,
            sock_read=self.options.timeout,
        )
        self._session = aiohttp.ClientSession(
            connector=aiohttp.TCPConnector(
                limit=0,
                limit_per_host=max(1, self.options.parallel),
                ttl_dns_cache=600,
                resolver=_Resolver(self._trusted),
            ),
            timeout=timeout,
            headers={"User-Agent": USER_AGENT, "Accept": "*/*", "Accept-Encoding": "gzip, deflate"},
            cookie_jar=aiohttp.DummyCookieJar(),
            auto_decompress=False,  # see `coding`
            max_line_size=32_768,
            max_field_size=32_768,
        )
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._session:
            await self._session.close()

    def pace(self, host: str) -> Pace:
        found = self._paces.get(host)
        if found is None:
            found = self._paces[host] = Pace(self.options.rate)
        return found

    async def get(self, url: str, limit: int, tries: int = 3, bodies: bool = True, agent: str | None = None) -> Answer:
        """Ask for an address, once or again where that may help; read at most `limit` octets.

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
        begun = False
        try:
            async with self.open(url, agent, sent) as response:
                begun = True
                answer = Answer(url, response.status, headers=_headers(response, None if sent else KEPT_HEADERS))
                if not bodies and not _may_be_html(answer):
                    answer.octets = _length(response.headers.get("content-length"))
                    if answer.octets > STEP or "content-length" not in response.headers:
                        response.close()
                    return answer
                await self._read(response, answer, limit)
                return answer
        except FAILED as error:
            failure, said = failure_of(error, begun)
            return Answer(url, None, said, failure=failure)

    @staticmethod
    async def _read(response: aiohttp.ClientResponse, answer: Answer, limit: int) -> None:
        """Read the body up to `limit` octets; what came before the connection broke off is kept."""
        chunks: list[bytes] = []
        try:
            async for chunk in coding.body(response):
                chunks.append(chunk)
                answer.octets += len(chunk)
                if answer.octets > limit:
                    answer.cut = True
                    response.close()
                    break
        except (TimeoutError, aiohttp.ClientPayloadError, ConnectionError) as error:
            if answer.status is not None and answer.status < 300:
                raise
            answer.error = explain(error)
        answer.body = b"".join(chunks)[:limit]

    @contextlib.asynccontextmanager
    async def open(
        self, url: str, agent: str | None = None, sent: Sent | None = None
    ) -> AsyncIterator[aiohttp.ClientResponse]:
        """One request, its body unread."""
        response = await self._send(url, agent, sent or Sent())
        try:
            yield response
        finally:
            response.release()

    async def _send(self, url: str, agent: str | None, sent: Sent) -> aiohttp.ClientResponse:
        assert self._session is not None
        parts = split(url)
        await self.pace(parts.host).turn()
        self.requests += 1
        if parts.host not in self._trusted and is_private(parts.host):
            raise PrivateAddress(PRIVATE)
        headers = {**sent.headers, **(dict(self.options.headers) if parts.origin in self._own else {})}
        if agent:
            headers["User-Agent"] = agent
        get = partial(self._session.request, sent.method, data=sent.data, allow_redirects=False)
        secure = partial(get, ssl=tls()) if parts.scheme == "https" else get
        connect = self._connect.get(parts.host)
        if connect is None:
            return await secure(URL(url, encoded=True), headers=headers)
        headers["Host"] = parts.host if parts.port is None else f"{parts.host}:{parts.port}"
        place = f"{connect.address}:{connect.port}"
        if parts.scheme == "https" and place not in self._plain:
            target = URL(f"https://{place}{parts.path}", encoded=True)
            try:
                return await secure(target, headers=headers, server_hostname=parts.host)
            except (aiohttp.ClientConnectorError, aiohttp.ServerDisconnectedError, ConnectionResetError) as error:
                if isinstance(error, aiohttp.ClientConnectorError) and not _no_tls(error):
                    raise
                self._plain.add(place)
        # The other end speaks plain HTTP, as behind a proxy that ends TLS: it is told which scheme was meant.
        if parts.scheme == "https":
            headers["X-Forwarded-Proto"] = "https"
            if not _is_here(connect.address):  # credentials for https never go over the network in the clear
                headers = {name: value for name, value in headers.items() if (name, value) not in self.options.headers}
        return await get(URL(f"http://{place}{parts.path}", encoded=True), headers=headers)


def _length(value: str | None) -> int:
    """The octets that a Content-Length promises, as far as a snapshot can hold the number."""
    return min(int(value), 1 << 62) if value and re.fullmatch(r"[0-9]{1,30}", value) else 0


def _no_tls(error: aiohttp.ClientConnectorError) -> bool:
    """Whether the other end was reached and does not speak TLS: it answers something else, or hangs up."""
    if isinstance(error, aiohttp.ClientConnectorCertificateError):
        return False
    return isinstance(error, aiohttp.ClientConnectorSSLError) or isinstance(error.os_error, ConnectionResetError)


def _is_here(address: str) -> bool:
    """Whether an address is this machine."""
    try:
        return ipaddress.ip_address(address.strip("[]")).is_loopback
    except ValueError:
        return address == "localhost"


def _headers(response: aiohttp.ClientResponse, kept: frozenset[str] | None) -> dict[str, list[str]]:
    """An answer's headers, those that are kept or all."""
    found: dict[str, list[str]] = {}
    for raw_name, raw_value in response.raw_headers:
        name = raw_name.decode("latin-1").lower()
        if kept is not None and name not in kept:
            continue
        try:
            value = raw_value.decode("utf-8")
        except UnicodeDecodeError:
            value = raw_value.decode("latin-1")
        found.setdefault(name, []).append(value)
    return found


def _may_be_html(answer: Answer) -> bool:
    media = (answer.header("content-type") or "").lower()
    return not media or "html" in media


async def follow_robots(fetcher: Fetcher, url: str, limit: int) -> tuple[list[str], Answer]:
    """Ask for a robots.txt, following redirects across hosts; the addresses that redirected, and the last answer."""
    hops: list[str] = []
    answer = await fetcher.get(url, limit)
    while answer.redirects and len(hops) <= MAX_HOPS:
        target = normalise(answer.header("location") or "", answer.url)
        if not target:
            break
        hops.append(answer.url)
        answer = await fetcher.get(target, limit)
    return hops, answer
