"""Content codings (RFC 9110 section 8.4.1), undone piece by piece: bounded, and a stream that was cut short is known to be."""

from __future__ import annotations

import zlib
from collections.abc import AsyncIterator, Iterator
from typing import Any

from indrel.core.answers import Failure
from indrel.sources.client import RequestFailed, Response

STEP = 1 << 16
"""Bytes that one piece is decoded to at most."""

_ZLIB, _GZIP, _BARE = 15, 31, -15
"""Window bits that say which wrapping to expect (RFC 1950, 1952, 1951)."""


class CodingError(RequestFailed):
    """A body that is not coded as its header says, or whose end is missing."""

    def __init__(self) -> None:
        super().__init__(Failure.BROKEN, "the response is not compressed as declared, or was cut")


class _Deflate:
    """gzip (of several members, too) and deflate (with its wrapping, or bare as some servers send it)."""

    def __init__(self, gzip: bool) -> None:
        self._gzip = gzip
        self._one: Any = zlib.decompressobj(_GZIP) if gzip else None
        self.ended = False

    def feed(self, octets: bytes) -> Iterator[bytes]:
        if self._one is None and octets:
            self._one = zlib.decompressobj(_ZLIB if octets[0] & 0x0F == 8 else _BARE)
        while octets and not self.ended:
            yield self._one.decompress(octets, STEP)
            octets = self._one.unconsumed_tail
            if self._one.eof:
                octets = self._one.unused_data
                self.ended = not (self._gzip and octets.startswith(b"\x1f"))
                if not self.ended:
                    self._one = zlib.decompressobj(_GZIP)
        if self._one is not None and self._one.eof:
            self.ended = True


class _Brotli:
    def __init__(self) -> None:
        import brotli

        self._one: Any = brotli.Decompressor()
        self._faults: type[Exception] = brotli.error

    @property
    def ended(self) -> bool:
        return bool(self._one.is_finished())

    def feed(self, octets: bytes) -> Iterator[bytes]:
        try:
            yield self._one.process(octets, output_buffer_limit=STEP)
            while not self._one.can_accept_more_data():
                yield self._one.process(b"", output_buffer_limit=STEP)
        except self._faults as error:
            raise zlib.error(str(error)) from error


def _decoder(coding: str) -> _Deflate | _Brotli | None:
    if coding in ("gzip", "x-gzip", "deflate"):
        return _Deflate(coding != "deflate")
    return _Brotli() if coding == "br" else None


async def body(response: Response) -> AsyncIterator[bytes]:
    """A body's bytes as they were before coding, in pieces. What no coding is (some servers name a charset) is left as is.

    Raises CodingError, after what could be decoded, where the rest is broken or missing.
    """
    decoder = _decoder((response.header("content-encoding") or "").strip().lower())
    any_came = False
    async for chunk in response.pieces():
        if decoder is None:
            yield chunk
            continue
        any_came = any_came or bool(chunk)
        try:
            for piece in decoder.feed(chunk):
                yield piece
        except zlib.error as error:
            raise CodingError from error
    if decoder is not None and any_came and not decoder.ended:
        raise CodingError
