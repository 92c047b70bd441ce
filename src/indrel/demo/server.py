"""Serves the demonstration site on this machine: all its hosts on one port, told apart by the Host header."""

from __future__ import annotations

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import TracebackType
from typing import Self

from indrel.demo.site import HOSTS, Site, build


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    wbufsize = 1 << 16  # head and body leave as one: apart, each answer waits 40 ms for the client's acknowledgement
    disable_nagle_algorithm = True
    site: Site

    def do_GET(self) -> None:
        host = (self.headers.get("Host") or "").partition(":")[0].lower()
        scheme = self.headers.get("X-Forwarded-Proto", "http")
        answer = self.site.answer_as(self.headers.get("User-Agent", ""), scheme, host, self.path)
        self.send_response(answer.status)
        self.send_header("Content-Type", answer.media_type)
        self.send_header("Content-Length", str(len(answer.body)))
        for name, value in answer.headers:
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(answer.body)

    def log_message(self, format: str, *args: object) -> None:
        pass


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 64

    def handle_error(self, request: object, client_address: object) -> None:
        pass  # a client that went away is no fault


class Listener:
    """Serves on this machine until closed. As a context manager, in a thread of its own."""

    def __init__(self, port: int, handler: type[BaseHTTPRequestHandler]) -> None:
        self._server = _Server(("127.0.0.1", port), handler)
        self.port = int(self._server.server_address[1])
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.02,), daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._server.shutdown()
        self._server.server_close()

    def wait(self) -> None:
        """Serve until interrupted."""
        while self._thread.is_alive():
            self._thread.join(0.5)


class DemoServer(Listener):
    """The demonstration site, or another one that is made the same way."""

    def __init__(self, port: int = 0, site: Site | None = None) -> None:
        self.site = site or build()
        super().__init__(port, type("Handler", (_Handler,), {"site": self.site}))

    @property
    def connect(self) -> list[str]:
        """`--connect` values for every host of the site."""
        return [f"{host}=http://127.0.0.1:{self.port}" for host in HOSTS]
