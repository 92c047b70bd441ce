"""Standard output and error that may be closed, full, or read by someone who has gone: the work and its exit code stand."""

from __future__ import annotations

import io
import os
import sys
from typing import Any

PATIENCE = 1 << 20
"""Bytes written for nobody, after which there is no use in going on."""


class ReaderGone(Exception):
    """Whoever read standard output has closed it, and much more was to come."""


class _Sink(io.RawIOBase):
    """A descriptor of which every fault is noted, and none is raised."""

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor
        self.fault: OSError | None = None
        self.lost = 0

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return self.descriptor

    def isatty(self) -> bool:
        return self.fault is None and os.isatty(self.descriptor)

    def write(self, octets: Any) -> int:
        size = len(octets)
        if self.fault is None:
            try:
                return os.write(self.descriptor, octets)
            except OSError as error:
                self.fault = error
        self.lost += size
        if self.lost > PATIENCE and isinstance(self.fault, BrokenPipeError):
            raise ReaderGone
        return size


def _stream(stream: Any) -> tuple[Any, _Sink | None]:
    """The stream to write to in place of one of the interpreter's, which is None where its descriptor is closed."""
    if stream is None:
        return open(os.devnull, "w", encoding="utf-8"), None
    if not isinstance(stream, io.TextIOWrapper):
        return stream, None
    stream.flush()
    sink = _Sink(stream.fileno())
    text = io.TextIOWrapper(
        io.BufferedWriter(sink),
        encoding=stream.encoding,
        errors="backslashreplace",  # sites hold characters that a terminal's encoding may not
        line_buffering=stream.line_buffering or sink.isatty(),
    )
    return text, sink


class Streams:
    """Puts careful streams in place of the interpreter's."""

    def __init__(self) -> None:
        sys.stdout, self.out = _stream(sys.stdout)
        sys.stderr, self.err = _stream(sys.stderr)
        sys.stderr.reconfigure(line_buffering=True)

    def fault(self) -> str | None:
        """Why the answer was not told, once all is written; None where it was, or where its reader left early."""
        try:
            sys.stdout.flush()
            sys.stderr.flush()
        except ReaderGone:
            return None
        if self.out and self.out.fault and not isinstance(self.out.fault, BrokenPipeError):
            return (
                f"standard output cannot be written: {self.out.fault.strerror}; write to a file with -o, or make room"
            )
        return None
