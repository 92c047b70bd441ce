"""A stand-in for an engine: takes IndexNow deliveries on this machine, checks them, passes nothing on."""

from __future__ import annotations

import json
from http.server import BaseHTTPRequestHandler
from typing import Any

from indrel.demo.server import Listener
from indrel.ledger.send import MOST

KEY = "5a42e1f07b6c4d9c"
"""The key that the demonstration site stands for."""

LARGEST = 32 * 1024 * 1024


def judge(body: bytes, key: str = KEY) -> int:
    """The status that the protocol gives for a delivery."""
    try:
        sent: Any = json.loads(body)
        host, urls = str(sent["host"]), [str(u) for u in sent["urlList"]]
    except (ValueError, KeyError, TypeError):
        return 400
    if sent.get("key") != key:
        return 403
    fits = all(u.startswith((f"https://{host}/", f"http://{host}/")) for u in urls)
    return 200 if urls and fits and len(urls) <= MOST else 422


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    taken: list[dict[str, Any]]

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        body = self.rfile.read(min(length, LARGEST))
        status = judge(body) if self.path == "/indexnow" else 404
        if status == 200:
            self.taken.append(json.loads(body))
        self.send_response(status)
        self.send_header("Content-Length", "0")
        self.send_header("Connection", "close")
        self.end_headers()
        self.close_connection = True

    def log_message(self, format: str, *args: object) -> None:
        pass


class Endpoint(Listener):
    """Listens on this machine until closed; `taken` holds what was delivered."""

    def __init__(self, port: int = 0) -> None:
        self.taken: list[dict[str, Any]] = []
        super().__init__(port, type("Handler", (_Handler,), {"taken": self.taken}))

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}/indexnow"
