"""A client of the DevTools protocol over a browser's pipe: calls and their answers, events to anyone who listens."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
from collections.abc import Callable
from typing import Any

PATIENCE = 10.0
"""Seconds that a call may take where nothing else is said."""

LONGEST = 64 << 20
"""Bytes of one message."""

Event = Callable[[str, dict[str, Any], str | None], None]


class BrowserLost(Exception):
    """The browser has ended: no call is answered any more."""


class CallRefused(Exception):
    """The browser refused a call, or did not answer it in time."""


class Pipe:
    """Speaks to one browser. `on_event` is reported every event: its name, its parameters, the session it came from."""

    def __init__(self, reading: int, writing: int, on_event: Event) -> None:
        self._reading = reading
        self._writing = writing
        self._on_event = on_event
        self._number = 0
        self._waiting: dict[int, asyncio.Future[dict[str, Any]]] = {}
        self.lost = False

    async def open(self) -> None:
        loop = asyncio.get_running_loop()
        self._stream = asyncio.StreamReader(limit=LONGEST)
        self._transport, _ = await loop.connect_read_pipe(
            lambda: asyncio.StreamReaderProtocol(self._stream), os.fdopen(self._reading, "rb", 0)
        )
        os.set_blocking(self._writing, False)
        self._turn = asyncio.Lock()
        self._task = asyncio.ensure_future(self._read())

    async def _read(self) -> None:
        try:
            while True:
                message = json.loads((await self._stream.readuntil(b"\0"))[:-1])
                number = message.get("id")
                if number is None:
                    self._on_event(message["method"], message.get("params", {}), message.get("sessionId"))
                elif (waiting := self._waiting.pop(number, None)) and not waiting.done():
                    waiting.set_result(message)
        except (asyncio.IncompleteReadError, asyncio.LimitOverrunError, OSError, ValueError):
            self._end()

    def _end(self) -> None:
        self.lost = True
        for waiting in self._waiting.values():
            if not waiting.done():
                waiting.set_exception(BrowserLost())
        self._waiting.clear()

    async def call(self, method: str, session: str | None = None, seconds: float = PATIENCE, /, **params: Any) -> Any:
        """One call's result. Raises CallRefused, or BrowserLost at once where there is no browser any more."""
        if self.lost:
            raise BrowserLost()
        self._number += 1
        number = self._number
        message = {"id": number, "method": method, "params": params} | ({"sessionId": session} if session else {})
        waiting = self._waiting[number] = asyncio.get_running_loop().create_future()
        await self._write(json.dumps(message).encode() + b"\0")
        try:
            answer = await asyncio.wait_for(waiting, seconds)
        except TimeoutError as error:
            self._waiting.pop(number, None)
            raise CallRefused(f"{method}: no response") from error
        if "error" in answer:
            raise CallRefused(f"{method}: {answer['error'].get('message')}")
        return answer.get("result", {})

    async def _write(self, data: bytes) -> None:
        """Write all of it, in turn: the browser may be slow to read."""
        async with self._turn:
            at = memoryview(data)
            while at:
                try:
                    at = at[os.write(self._writing, at) :]
                except BlockingIOError:
                    await asyncio.sleep(0.005)
                except OSError as error:
                    self._end()
                    raise BrowserLost() from error

    async def close(self) -> None:
        self._task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await self._task
        self._end()
        self._transport.close()
        with contextlib.suppress(OSError):
            os.close(self._writing)
