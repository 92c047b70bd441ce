"""The HTTP client: one request, its answer piece by piece. Rates, retries, credentials and whom to ask are for `fetch`.

Only this module knows the library that does it. Redirects are not followed, bodies come as they were sent (see `coding`),
no proxy, cookie or password file of this machine is used.
"""

from __future__ import annotations

import asyncio
import errno
import os
import socket
import ssl
from collections import deque
from collections.abc import AsyncIterator, Callable, Mapping
from functools import cache
from typing import Any, NamedTuple

import pycurl

from indrel.core.answers import NO_SUCH_HOST, NOT_HTTP, Failure, status_of

PRIVATE = "not requested: a private IP address"
MOST_WAITING = 1 << 20
"""Bytes of a body that may wait to be read; the server is held up meanwhile."""

SHORT = 1 << 16
"""Bytes of a body that are cheaper to let come than to connect again."""

_ENDS = frozenset({b"\r\n", b"\n"})
_UNTRUSTED = frozenset({pycurl.E_PEER_FAILED_VERIFICATION, pycurl.E_SSL_ISSUER_ERROR, pycurl.E_SSL_CACERT_BADFILE})
_NO_TLS = frozenset(
    {pycurl.E_SSL_CONNECT_ERROR, pycurl.E_SSL_CIPHER, pycurl.E_SSL_CERTPROBLEM, pycurl.E_SSL_ENGINE_INITFAILED}
)
_ODD_HEAD = pycurl.E_FTP_WEIRD_SERVER_REPLY  # of any protocol, whatever it is named here


class RequestFailed(Exception):
    """No answer, or none that is whole: what kind of failure, and that in plain words."""

    def __init__(self, failure: Failure, said: str) -> None:
        super().__init__(said)
        self.failure = failure


class Request(NamedTuple):
    """One request. `connect` is the place (`address:port`) that is asked in the host's stead; `guard` says of an address
    found for the host whether it may be asked."""

    url: str
    headers: Mapping[str, str]
    method: str = "GET"
    data: bytes | None = None
    connect: str | None = None
    guard: Callable[[str], bool] | None = None


class Response:
    """An answer that has begun. `headers` are in order, names in lower case."""

    def __init__(self, client: Client, handle: Any) -> None:
        self._client, self._handle = client, handle
        self.status = 0
        self.headers: list[tuple[str, str]] = []
        self.failed: RequestFailed | None = None
        self.refused = False
        self._lines: list[bytes] = []
        self._chunks: deque[bytes] = deque()
        self._waiting = 0
        self._held = self._ended = self._unwanted = False
        self._stir: asyncio.Future[None] | None = None

    def header(self, name: str) -> str | None:
        """The first value of a header."""
        return next((value for one, value in self.headers if one == name), None)

    async def pieces(self) -> AsyncIterator[bytes]:
        """The body's bytes. Raises RequestFailed, after what came, where the rest is missing."""
        while True:
            while self._chunks:
                chunk = self._chunks.popleft()
                self._waiting -= len(chunk)
                yield chunk
            if self._held:
                self._held = False
                self._handle.pause(pycurl.PAUSE_CONT)
            elif self._ended:
                break
            else:
                await self._wait()
        if self.failed:
            raise self.failed

    def close(self) -> None:
        """Leave the rest of the answer unread. A short one runs on, so that its connection can be used again."""
        if self._ended or self._unwanted:
            return
        length = self.header("content-length")
        if length and length.isdigit() and len(length) < 9 and int(length) <= SHORT and not self._held:
            self._unwanted = True
        else:
            self._client.drop(self._handle)
            self._ended = True

    async def begin(self) -> None:
        """Wait for the answer's head. Raises RequestFailed where none comes."""
        while not self.status and not self._ended:
            await self._wait()
        if not self.status:
            raise self.failed or RequestFailed(Failure.BROKEN, NOT_HTTP)

    async def _wait(self) -> None:
        self._stir = self._client.loop.create_future()
        await self._stir

    def _wake(self) -> None:
        if self._stir is not None and not self._stir.done():
            self._stir.set_result(None)

    def take_line(self, line: bytes) -> int | None:
        """A line of a head. Heads of interim responses (1xx) are dropped; a head without a status ends the transfer."""
        if self.status:
            return None  # a trailer
        if line not in _ENDS:
            self._lines.append(line)
            return None
        written = self._lines[0].split(None, 2)[1:2] if self._lines else []
        code = status_of(written[0]) if written else None
        if code is None:
            return -1
        if code >= 200:
            self.status, self.headers = code, _headers(self._lines[1:])
        self._lines = []
        return None

    def take(self, chunk: bytes) -> int | None:
        """Bytes of the body."""
        if self._unwanted:
            return None
        if self._waiting > MOST_WAITING:
            self._held = True
            return int(pycurl.WRITEFUNC_PAUSE)
        self._chunks.append(chunk)
        self._waiting += len(chunk)
        self._wake()
        return None

    def end(self, code: int, said: str) -> None:
        """The transfer is over, with an error of the library or 0."""
        self._ended, self._held = True, False  # the handle is another request's soon
        try:
            if code == _ODD_HEAD and "Multiple Location" in said:
                self.take_line(b"\r\n")  # the library gives up at the second: the first is taken
            elif code:
                self.failed = RequestFailed(*self._failure(code, said))
        finally:
            self._wake()

    def open_socket(self, guard: Callable[[str], bool], _: int, address: Any) -> socket.socket | int:
        """A socket for an address that the host's name led to, unless it may not be asked."""
        family, kind, protocol, (host, *_rest) = address
        if guard(host):
            return socket.socket(family, kind, protocol)
        self.refused = True
        return int(pycurl.SOCKET_BAD)

    def _failure(self, code: int, said: str) -> tuple[Failure, str]:
        if code == pycurl.E_OPERATION_TIMEDOUT:
            slow = (Failure.SLOW, "the response did not end in time")
            return slow if self.status else (Failure.SILENT, "no response in time")
        if code in _UNTRUSTED:
            reason = said.partition("certificate problem: ")[2] or said.removeprefix("SSL: ") or "not trusted"
            return Failure.CERTIFICATE, f"TLS: the certificate was refused ({reason})"
        if code in _NO_TLS:
            return Failure.TLS, "TLS: no secure connection could be made"
        if self.refused:
            return Failure.PRIVATE, PRIVATE
        if code == pycurl.E_COULDNT_RESOLVE_HOST:
            return Failure.NO_HOST, NO_SUCH_HOST
        if code == pycurl.E_COULDNT_CONNECT:
            number = self._handle.getinfo(pycurl.OS_ERRNO)
            if number == errno.ECONNRESET:
                return Failure.NO_CONNECTION, "no connection (the other side closed it at once)"
            return Failure.NO_CONNECTION, f"no connection ({os.strerror(number) if number else 'refused'})".lower()
        if code in (pycurl.E_GOT_NOTHING, pycurl.E_RECV_ERROR, pycurl.E_SEND_ERROR) and not self.status:
            return Failure.BROKEN, "the server closed the connection without a response"
        if self.status:
            return Failure.BROKEN, "the connection broke in the middle of the response"
        if code == pycurl.E_URL_MALFORMAT:
            return Failure.OTHER, "the request failed (no usable IP address)"
        return Failure.BROKEN, NOT_HTTP


class Client:
    """Sends requests in the running loop. `timeout` seconds may pass without an byte, `whole` in all; at most `parallel`
    connections go to one host at a time."""

    def __init__(self, timeout: float, whole: float, parallel: int = 8) -> None:
        self.loop = asyncio.get_running_loop()
        self._timeout, self._whole = timeout, whole
        self._multi = multi = pycurl.CurlMulti()
        multi.setopt(pycurl.M_SOCKETFUNCTION, self._watch)
        multi.setopt(pycurl.M_TIMERFUNCTION, self._remind)
        multi.setopt(pycurl.M_MAX_HOST_CONNECTIONS, parallel)
        self._watched: dict[int, int] = {}
        self._reminder: asyncio.Handle | None = None
        self._under_way: dict[Any, Response] = {}
        self._free: list[Any] = []

    def close(self) -> None:
        """End all that is under way, and every connection."""
        for handle in [*self._under_way]:
            self.drop(handle)
        self._remind(-1)
        self._multi.close()
        for handle in self._free:
            handle.close()

    async def send(self, request: Request) -> Response:
        """The answer, once its head is there. Raises RequestFailed where none comes."""
        handle = self._free.pop() if self._free else pycurl.Curl()
        response = Response(self, handle)
        self._set(handle, request, response)
        self._under_way[handle] = response
        self._multi.add_handle(handle)
        try:
            await response.begin()
        except BaseException:
            response.close()
            raise
        return response

    def drop(self, handle: Any) -> None:
        """End a request whose answer is no longer wanted."""
        if self._under_way.pop(handle, None):
            self._multi.remove_handle(handle)
            handle.close()

    def _set(self, handle: Any, request: Request, response: Response) -> None:
        for option, value in (
            *_ALWAYS,
            (pycurl.URL, request.url),
            (pycurl.HTTPHEADER, [_header(name, value) for name, value in request.headers.items()]),
            (pycurl.CONNECTTIMEOUT_MS, max(1, int(self._timeout * 1000))),
            (pycurl.TIMEOUT_MS, max(1, int(self._whole * 1000))),
            (pycurl.LOW_SPEED_TIME, max(1, round(self._timeout))),
            (pycurl.HEADERFUNCTION, response.take_line),
            (pycurl.WRITEFUNCTION, response.take),
        ):
            handle.setopt(option, value)
        if request.url.startswith("https:"):
            for option, value in _trusted():
                handle.setopt(option, value)
        if request.connect:
            handle.setopt(pycurl.CONNECT_TO, [f"::{request.connect}"])
        if guard := request.guard:
            handle.setopt(
                pycurl.OPENSOCKETFUNCTION, lambda purpose, address: response.open_socket(guard, purpose, address)
            )
        if request.data is not None or request.method in ("POST", "PUT", "PATCH"):
            handle.setopt(pycurl.POSTFIELDS, request.data or b"")
        if request.method == "HEAD":
            handle.setopt(pycurl.NOBODY, 1)
        elif request.method != "GET":
            handle.setopt(pycurl.CUSTOMREQUEST, request.method)

    def _watch(self, wanted: int, descriptor: int, _multi: Any, _data: Any) -> None:
        """What the library waits for on a connection."""
        before = self._watched.get(descriptor, 0)
        if wanted == pycurl.POLL_REMOVE:
            wanted = 0
        self._watched[descriptor] = wanted
        changed, loop = before ^ wanted, self.loop
        if changed & pycurl.POLL_IN:
            if wanted & pycurl.POLL_IN:
                loop.add_reader(descriptor, self._act, descriptor, pycurl.CSELECT_IN)
            else:
                loop.remove_reader(descriptor)
        if changed & pycurl.POLL_OUT:
            if wanted & pycurl.POLL_OUT:
                loop.add_writer(descriptor, self._act, descriptor, pycurl.CSELECT_OUT)
            else:
                loop.remove_writer(descriptor)

    def _remind(self, milliseconds: int) -> None:
        if self._reminder:
            self._reminder.cancel()
            self._reminder = None
        if milliseconds == 0:
            self._reminder = self.loop.call_soon(self._act, pycurl.SOCKET_TIMEOUT, 0)
        elif milliseconds > 0:
            self._reminder = self.loop.call_later(milliseconds / 1000, self._act, pycurl.SOCKET_TIMEOUT, 0)

    def _act(self, descriptor: int, ready: int) -> None:
        """Let the library go on, and end what it has finished."""
        _, running = self._multi.socket_action(descriptor, ready)
        if running == len(self._under_way):
            return
        more = 1
        while more:
            more, well, badly = self._multi.info_read()
            for handle in well:
                self._end(handle, 0, "")
            for handle, code, said in badly:
                self._end(handle, code, said)

    def _end(self, handle: Any, code: int, said: str) -> None:
        response = self._under_way.pop(handle, None)
        if response is None:
            return
        response.end(code, said)
        self._multi.remove_handle(handle)
        handle.reset()
        self._free.append(handle)


_ALWAYS = (
    (pycurl.HTTP_VERSION, pycurl.CURL_HTTP_VERSION_1_1),
    (pycurl.NOSIGNAL, 1),
    (pycurl.PATH_AS_IS, 1),  # an address is asked for as is written
    (pycurl.PROXY, ""),
    (pycurl.BUFFERSIZE, 1 << 16),
    (pycurl.DNS_CACHE_TIMEOUT, 600),
    (pycurl.LOW_SPEED_LIMIT, 1),
)


@cache
def _trusted() -> list[tuple[int, str]]:
    """Whom this machine trusts, as its own TLS library finds it (SSL_CERT_FILE, SSL_CERT_DIR)."""
    paths = ssl.get_default_verify_paths()
    found = [(pycurl.CAINFO, paths.cafile), (pycurl.CAPATH, paths.capath)]
    return [(option, path) for option, path in found if path]


def _header(name: str, value: str) -> bytes:
    """A header's line. Raises ValueError for one that would be more than one line."""
    line = f"{name}: {value}" if value else f"{name};"
    if any(c in line for c in "\r\n\0"):
        raise ValueError(f"header {name}: no line")
    return line.encode()


def _headers(lines: list[bytes]) -> list[tuple[str, str]]:
    """Names and values; a line that begins with white space goes on with the one before (RFC 9112 section 5.2)."""
    found: list[tuple[str, str]] = []
    for line in lines:
        try:
            text = line.decode("utf-8").rstrip("\r\n")
        except UnicodeDecodeError:
            text = line.decode("latin-1").rstrip("\r\n")
        if text[:1] in " \t":
            if found:
                found[-1] = found[-1][0], f"{found[-1][1]} {text.strip()}".strip()
            continue
        name, colon, value = text.partition(":")
        if colon:
            found.append((name.strip().lower(), value.strip(" \t")))
    return found
