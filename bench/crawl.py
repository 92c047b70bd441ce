"""Crawling a 5,000-page site, beside `wget -r`: on nginx without latency, and with 30 ms a request.

The second server is a small asynchronous one of our own that answers from memory after 30 ms, for
nginx has no delay of its own; both programs are timed on the same server.
"""

from __future__ import annotations

import asyncio
import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import threading
import time
from pathlib import Path

from pages import page, path, write

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "indrel")
PAGES = 5_000
PORT, SLOW_PORT = 18_080, 18_081
EVERYTHING = ["--rate", "0", "--per-pattern", "10000000", "--snapshot", "s.indrel", "-q"]
"""No pace, and no bound for addresses that differ only in numbers, as those of a generated site do."""
NGINX = """daemon off; worker_processes 1; pid {dir}/nginx.pid; error_log {dir}/error.log;
events {{ worker_connections 512; }}
http {{ include /etc/nginx/mime.types; access_log off; keepalive_requests 100000; client_body_temp_path {dir};
proxy_temp_path {dir}; fastcgi_temp_path {dir}; uwsgi_temp_path {dir}; scgi_temp_path {dir};
server {{ listen 127.0.0.1:{port}; root {root}; }} }}
"""


class Slow(asyncio.Protocol):
    """Answers each request after 30 ms."""

    answers: dict[bytes, bytes]

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport
        self.seen = b""

    def data_received(self, data: bytes) -> None:
        self.seen += data
        while b"\r\n\r\n" in self.seen:
            head, _, self.seen = self.seen.partition(b"\r\n\r\n")
            answer = self.answers.get(head.split(b" ", 2)[1], MISSING)
            asyncio.get_running_loop().call_later(0.03, self.transport.write, answer)


MISSING = b"HTTP/1.1 404 Not Found\r\nContent-Type: text/plain\r\nContent-Length: 0\r\n\r\n"


def slow_server() -> None:
    answers = {}
    for number in range(PAGES):
        body = page(number, PAGES)
        head = f"HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {len(body)}\r\n\r\n"
        answers[path(number).encode()] = head.encode() + body
    Slow.answers = answers

    async def serve() -> None:
        server = await asyncio.get_running_loop().create_server(Slow, "127.0.0.1", SLOW_PORT)
        await server.serve_forever()

    asyncio.run(serve())


def timed(command: list[str], folder: str) -> tuple[float, float]:
    """Seconds on the wall, and of the processor (all processes of the command)."""
    began, before = time.perf_counter(), os.times()
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    after = os.times()
    cpu = after.children_user + after.children_system - before.children_user - before.children_system
    return time.perf_counter() - began, cpu


GATHERING = """
import sys
from pathlib import Path
from indrel.core import crawlers
from indrel.pipeline import gather
from indrel.sources.options import GatherOptions
options = GatherOptions(crawlers.resolve(crawlers.DEFAULT), rate=0, per_pattern=10**7, parallel=int(sys.argv[2]))
gather(sys.argv[1], options, Path("s.indrel"))
"""
"""The crawl alone: all that is fetched and read is kept, and nothing decided."""


def compare(port: int, parallel: int, goal: float, runs: int) -> None:
    url = f"http://127.0.0.1:{port}/"
    for _ in range(runs):
        with tempfile.TemporaryDirectory() as folder:
            wget, wget_cpu = timed(["wget", "-r", "-l", "inf", "-nv", "-e", "robots=off", url], folder)
            got = sum(1 for p in Path(folder).rglob("*.html"))
        with tempfile.TemporaryDirectory() as folder:
            alone, alone_cpu = timed([sys.executable, "-c", GATHERING, url, str(parallel)], folder)
        with tempfile.TemporaryDirectory() as folder:
            ours, ours_cpu = timed([PROGRAM, "audit", url, *EVERYTHING, "--parallel", str(parallel)], folder)
            listed = subprocess.run([PROGRAM, "list", "s.indrel", "--state", "open", "--json"], cwd=folder,
                                    capture_output=True, text=True).stdout.count("\n")  # fmt: skip
        print(f"wget {got:,} pages, {got / wget:,.0f}/s, {wget_cpu:.1f} CPU s; "
              f"crawl alone {listed / alone:,.0f}/s, {alone_cpu:.1f} CPU s, ratio {listed / alone * wget / got:.2f}; "
              f"audit {listed:,} pages, {listed / ours:,.0f}/s, {ours_cpu:.1f} CPU s; "
              f"ratio {listed / ours * wget / got:.2f} (goal: at least {goal})")  # fmt: skip


def main() -> None:
    if "--slow-server" in sys.argv:
        return slow_server()
    for needed in ("nginx", "wget"):
        if not shutil.which(needed):
            sys.exit(f"{needed} is needed for this benchmark")
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder, "site")
        write(root, PAGES)
        Path(folder).chmod(0o755)
        Path(folder, "nginx.conf").write_text(NGINX.format(dir=folder, root=root, port=PORT))
        nginx = subprocess.Popen(["nginx", "-c", f"{folder}/nginx.conf"])
        slow = subprocess.Popen([sys.executable, __file__, "--slow-server"])
        threading.Event().wait(3)
        try:
            print("nginx, no latency, --parallel 8:")
            compare(PORT, 8, 0.5, 5)
            print("30 ms a request, --parallel 32 --rate 0:")
            compare(SLOW_PORT, 32, 20, 1)
        finally:
            nginx.terminate()
            slow.terminate()


if __name__ == "__main__":
    main()
