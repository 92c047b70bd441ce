"""Shared by all tests: small served sites, the installed program, one pool of parsers."""

from __future__ import annotations

import json
import os
import re
import shutil
import socket
import ssl
import subprocess
import sysconfig
import time
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from forked import Forked
from indrel import pipeline
from indrel.checks import judge, verdict_of
from indrel.core.address import split
from indrel.core.answers import Failure
from indrel.core.crawlers import resolve
from indrel.core.intent import Intent, read_intent
from indrel.core.model import Verdict
from indrel.decide.site import Site
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from indrel.demo.site import Site as Served
from indrel.gather.parsing import ParserPool
from indrel.sources import fetch
from indrel.sources.client import Request, RequestFailed, _trusted
from indrel.sources.options import GatherOptions
from programs import PACKAGES

settings.register_profile("untimed", deadline=None)  # what a first call loads, or a busy machine, is no failure
settings.load_profile("untimed")

HOST = "www.sarnfell.example"
PROGRAM = Path(sysconfig.get_path("scripts")) / "indrel"


@pytest.fixture(scope="session")
def pool() -> Iterator[ParserPool]:
    found = ParserPool(1)
    yield found
    for worker in found._all:
        worker.end()


def served(pages: dict[str, Any], missing: Response | None = None) -> Served:
    """A site from paths (or whole addresses) to bodies or responses; robots.txt is text, .xml is XML."""
    site = Served()
    for path, answer in pages.items():
        url = path if "://" in path else f"https://{HOST}{path}"
        if isinstance(answer, str):
            plain = path.endswith((".txt", ".xml"))
            answer = Response(answer.encode(), media_type="text/plain" if plain else "text/html; charset=utf-8")
        if path.startswith("as "):
            _, agent, name = path.split()
            site.as_crawler[agent, name] = answer
        else:
            site.pages[url] = answer
    if missing:
        site.missing[HOST] = missing
    return site


AuditSite = Callable[..., tuple[Site, Verdict]]


def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores: many tests wait, for servers that are slow and for browsers that hang."""
    return (os.cpu_count() or 1) + 1


LONG = ("test_rendering.py", "test_queries.py", "test_watching.py", "test_readme.py", "test_page.py")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark the trials, and begin with what takes long: at the end no worker waits for another's."""
    for item in items:
        if item.path.parent.name == "trials":
            item.add_marker("trial")
    items.sort(key=lambda item: item.path.parent.name != "trials" and item.path.name not in LONG)


def needed(program: str) -> str:
    """The path of a program that a test needs. Where it is missing the test is skipped and says so; CI must not lack it."""
    found = shutil.which(program, path=f"{os.environ.get('PATH', os.defpath)}:/usr/sbin")
    if found is None:
        why = f"this test needs {program} (Debian: apt-get install {PACKAGES[program]})"
        assert not os.environ.get("CI"), why
        pytest.skip(why)
    return found


@pytest.fixture(scope="session")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A key and certificate for the hosts of the tests, which this process and the programs it starts trust."""
    openssl = needed("openssl")
    folder = tmp_path_factory.mktemp("tls")
    both, own = folder / "both.pem", folder / "own.pem"
    names = f"subjectAltName=DNS:{HOST},DNS:{HOST[4:]},DNS:*.{HOST[4:]}"
    made = [openssl, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", both, "-out", own]
    subprocess.run([*made, "-subj", f"/CN={HOST}", "-addext", names], check=True, capture_output=True)
    both.write_text(both.read_text() + own.read_text())
    before = os.environ.get("SSL_CERT_FILE")
    os.environ["SSL_CERT_FILE"] = str(own)
    _trusted.cache_clear()
    yield both
    os.environ.pop("SSL_CERT_FILE")
    os.environ |= {"SSL_CERT_FILE": before} if before else {}
    _trusted.cache_clear()


class BothServer(DemoServer):
    """Serves a site with and without TLS on one port, whichever a client begins with."""

    def __init__(self, site: Served, certificate: Path, speaks: tuple[str, ...] = ("http", "https")) -> None:
        super().__init__(0, site)
        handler: Any = self._server.RequestHandlerClass
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        answered = handler.do_GET

        def do_get(this: Any) -> None:
            this.headers["X-Forwarded-Proto"] = "https" if isinstance(this.connection, ssl.SSLSocket) else "http"
            answered(this)

        def finish_request(request: socket.socket, client: Any) -> None:
            scheme = "https" if request.recv(1, socket.MSG_PEEK) == b"\x16" else "http"
            if scheme in speaks:
                with (
                    suppress(OSError),
                    context.wrap_socket(request, server_side=True) if scheme == "https" else request as one,
                ):
                    handler(one, client, self._server)
            elif scheme == "http":
                request.recv(10_000)
                request.sendall(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")

        handler.do_GET = do_get
        self._server.finish_request = finish_request  # type: ignore[method-assign]

    @property
    def connect(self) -> list[str]:
        return [f"{host}=127.0.0.1:{self.port}" for host in (HOST, HOST[4:])]


class Values:
    """Stands in for the HTTP client: answers come from a site's values, no server and no socket between."""

    def __init__(self, site: Served, hosts: set[str]) -> None:
        self.site, self.hosts = site, hosts

    async def send(self, request: Request) -> Answered:
        parts = split(request.url)
        if parts.host not in self.hosts:
            raise RequestFailed(Failure.NO_HOST, "no such host")
        return Answered(
            self.site.answer_as(request.headers.get("User-Agent", ""), parts.scheme, parts.host, parts.path)
        )

    def close(self) -> None:
        pass


class Answered:
    """One answer, as the client gives it."""

    def __init__(self, answer: Response) -> None:
        self.status, self._body = answer.status, answer.body
        self.headers = [
            ("content-type", answer.media_type), ("content-length", str(len(answer.body))),
            *((name.lower(), value) for name, value in answer.headers),
        ]  # fmt: skip

    def header(self, name: str) -> str | None:
        return next((value for one, value in self.headers if one == name), None)

    async def pieces(self) -> AsyncIterator[bytes]:
        yield self._body

    def close(self) -> None:
        pass


@pytest.fixture
def audit_site(pool: ParserPool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[AuditSite]:
    """Audit a site of values in this process, give decisions and verdict. Retries come without a pause."""
    opened: list[Site] = []
    monkeypatch.setattr(fetch, "BACKOFF", (0.01, 0.01))
    monkeypatch.setattr(fetch, "LATER", 0.01)

    def run(pages: dict[str, Any], missing: Response | None = None, **options: Any) -> tuple[Site, Verdict]:
        hosts = {p.split("/")[2] for p in pages if "://" in p} | {HOST, HOST[4:]}
        intent = read(options.pop("intent", None), tmp_path)
        crawlers = resolve(options.pop("crawlers", ("googlebot", "bingbot", "*")))
        values = Values(served(pages, missing), hosts)
        monkeypatch.setattr(fetch, "Client", lambda *_: values)
        start, only = options.pop("start", "/"), options.pop("only", None)
        wanted = GatherOptions(
            crawlers=crawlers, rate=0, timeout=5, hosts=intent.all_hosts, user_parts=intent.user_written, **options
        )
        path = tmp_path / f"s{len(opened)}.indrel"
        pipeline.gather(f"https://{HOST}{start}", wanted, path, pool=_Kept(pool))
        site = pipeline.open_site(path, intent=intent)
        opened.append(site)
        return site, judge(site, only) if only else verdict_of(site)

    yield run
    for site in opened:
        site.close()


def read(text: str | None, folder: Path) -> Intent:
    """An intent file's text as it is read from a file."""
    if text is None:
        return Intent()
    file = folder / "indrel.toml"
    file.write_text(text, "utf-8")
    return read_intent(file)


class _Kept(ParserPool):
    """A pool that outlives the audits that use it."""

    def __init__(self, pool: ParserPool) -> None:
        self.__dict__.update(pool.__dict__)

    def close(self) -> None:
        pass


@pytest.fixture(scope="session")
def program() -> Iterator[Forked]:
    """The installed program, ready to be run many times."""
    found = Forked(PROGRAM)
    yield found
    found.close()


@pytest.fixture
def indrel(tmp_path: Path, program: Forked) -> Callable[..., subprocess.CompletedProcess[str]]:
    """Run the installed program in a temporary folder."""

    def run(
        *arguments: object, code: int | None = None, cwd: Path = tmp_path, columns: int = 100, **more: Any
    ) -> subprocess.CompletedProcess[str]:
        done = program.run([str(a) for a in arguments], cwd, {**os.environ, "COLUMNS": str(columns)}, **more)
        assert not re.search("Traceback|unexpected fault|the database failed", done.stderr), done.stderr
        if code is not None:
            assert done.returncode == code, (done.returncode, done.stdout[-2000:], done.stderr[-2000:])
        return done

    return run


def lines_of(text: str) -> list[dict[str, Any]]:
    return [json.loads(line) for line in text.splitlines()]


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder in which `indrel demo` has run."""
    folder = tmp_path_factory.mktemp("demo")
    done = subprocess.run([PROGRAM, "demo"], cwd=folder, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("www.sarnfell.example, 20") and "try: indrel explain /" in done.stderr
    return folder


@pytest.fixture
def nginx(tmp_path: Path) -> Iterator[Callable[[Path, str, str], str]]:
    """Start a real nginx on a folder, with some lines in its http and server blocks; the address it listens on."""
    program = needed("nginx")
    running: list[subprocess.Popen[bytes]] = []

    def start(root: Path, http: str, server: str) -> str:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        user = "user root;\n" if os.geteuid() == 0 else ""
        (tmp_path / "n.conf").write_text(
            f"{user}daemon off; pid {tmp_path}/pid; error_log {tmp_path}/err; events {{}}\nhttp {{ access_log off;\n"
            f"client_body_temp_path {tmp_path}/b; proxy_temp_path {tmp_path}/p; fastcgi_temp_path {tmp_path}/f;\n"
            f"uwsgi_temp_path {tmp_path}/u; scgi_temp_path {tmp_path}/s;\n{http}\n"
            f"server {{ listen 127.0.0.1:{port}; root {root}; {server} }} }}"
        )
        running.append(subprocess.Popen([program, "-c", str(tmp_path / "n.conf"), "-p", str(tmp_path)]))
        for _ in range(100):
            with socket.socket() as tried:
                if tried.connect_ex(("127.0.0.1", port)) == 0:
                    return f"http://127.0.0.1:{port}"
            time.sleep(0.05)
        raise AssertionError((tmp_path / "err").read_text())

    yield start
    for process in running:
        process.terminate()
        process.wait(10)
