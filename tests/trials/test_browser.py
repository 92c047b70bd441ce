"""A browser that sends, grows, hangs or dies: nothing leaves it, and what was not viewed is never taken for viewed."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from cases import HOST, TOLD, a
from conftest import served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response, Site
from indrel.sources.browser import launch
from indrel.sources.browser.memory import descendants, process
from test_program import Run
from test_rendering import look_at, needs_browser, shell

FILL = f"m.innerHTML = '<main><h1>Hut</h1>{TOLD}</main>'"


@contextmanager
def site(pages: dict[str, str]) -> Iterator[list[str]]:
    """A served site of pages that scripts fill; the options to reach it."""
    start = shell(FILL + "; m.innerHTML += `" + a(*pages) + "`")
    with DemoServer(site=served({"/": start + a(*pages), "/robots.txt": "", **pages})) as server:
        yield ["--rate", "0", "--connect", f"{HOST[8:]}=http://127.0.0.1:{server.port}"]


def sending(port: int) -> str:
    """Every way that a page has to send a packet itself."""
    ice = f"[{{urls: 'stun:127.0.0.1:{port}'}}, {{urls: 'turn:127.0.0.1:{port}?transport=udp', username: 'a', credential: 'b'}}]"
    candidate = f"candidate:1 1 udp 2122260223 127.0.0.1 {port} typ host generation 0 ufrag AAAA network-cost 999"
    return (
        f"const p = new RTCPeerConnection({{iceServers: {ice}, iceCandidatePoolSize: 4}}); p.createDataChannel('x');"
        "p.createOffer().then(o => p.setLocalDescription(o));"
        "const q = new RTCPeerConnection(); p.onicecandidate = e => e.candidate && q.addIceCandidate(e.candidate);"
        "p.createOffer().then(o => q.setRemoteDescription(o)).then(() => q.createAnswer()).then(r => q.setLocalDescription(r))"
        f".then(() => q.addIceCandidate({{candidate: '{candidate}', sdpMid: '0', sdpMLineIndex: 0}})).catch(() => 0);"
        f"try {{ new WebTransport('https://127.0.0.1:{port}/x') }} catch (e) {{}}"
        f"try {{ new WebSocket('wss://127.0.0.1:{port}/x') }} catch (e) {{}}"
        f"fetch('https://127.0.0.1:{port}/h3').catch(() => 0); fetch('http://abcdef.local/').catch(() => 0);"
        "for (const rel of ['dns-prefetch', 'preconnect']) { const l = document.createElement('link'); l.rel = rel;"
        f"l.href = 'https://x.127.0.0.1.sarnfell.test:{port}/'; document.head.append(l) }}" + FILL
    )


@needs_browser
@pytest.mark.parametrize("apart", [True, False], ids=["without a network", "where the kernel allows no namespace"])
def test_a_page_sends_no_packet(apart: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(launch.Browser, "_apart", apart)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as udp:
        udp.bind(("127.0.0.1", 0))
        udp.settimeout(0.2)
        (seen,) = look_at(shell(sending(udp.getsockname()[1])))
        assert seen.why is None and seen.seen and "Hut" in seen.seen["text"]
        with pytest.raises(TimeoutError):
            udp.recv(2_000)


GREEDY = "const all = []; for (let i = 0; i < 60; i++) { const b = new Uint8Array(50e6); b.fill(1); all.push(b); window.all = all }"


@needs_browser
def test_a_browser_that_grows_loses_the_page_that_grew(indrel: Run, tmp_path: Path) -> None:
    """Four pages that would hold 3 GB each: they are named, the others are viewed, and the limit holds."""
    peak, stop = [0], threading.Event()

    def watch() -> None:
        while not stop.wait(0.05):
            held = sum(one.held for n in descendants(os.getpid()) if (one := process(n)) and b"chrom" in name_of(n))
            peak[0] = max(peak[0], held)

    threading.Thread(target=watch, daemon=True).start()
    pages = {f"/greedy{n}": shell(GREEDY) for n in range(4)} | {f"/hut{n}": shell(FILL) for n in range(4)}
    with site(pages) as options:
        done = indrel(
            "audit", HOST + "/", "--render=all", "--render-memory=700MB", "--fail-on=never", "--json", "--save=s.indrel", *options, code=0
        )  # fmt: skip
    stop.set()
    report = json.loads(done.stdout)
    rows = {r["url"]: r["rendered"] for r in map(json.loads, indrel("list", "s.indrel", "--json").stdout.splitlines())}
    assert {u.rpartition("/")[2] for u, seen in rows.items() if seen == "none"} == {f"greedy{n}" for n in range(4)}
    assert {u.rpartition("/")[2] for u, seen in rows.items() if seen == "ok"} == {"", *(f"hut{n}" for n in range(4))}
    assert any("4 pages could not be rendered" in note and "took too much memory" in note for note in report["notes"])
    assert any("4 pages" in one["because"] for one in report["skipped_checks"] if one["check"] == "render-broken")
    print(f"peak {peak[0] / 1e6:.0f} MB")
    assert peak[0] < 1_400e6


def name_of(number: int) -> bytes:
    try:
        return Path(f"/proc/{number}/cmdline").read_bytes()
    except OSError:
        return b""


def mains() -> list[int]:
    """The main processes of browsers that this process has led to."""
    own = descendants(os.getpid())
    return [
        n
        for n in own
        if b"--remote-debugging-pipe" in (c := name_of(n)) and b"--type=" not in c and b"guard.py" not in c
    ]


def rendered(indrel: Run) -> list[str | None]:
    """What came of each page's view, in the order of the URLs."""
    return [json.loads(line)["rendered"] for line in indrel("list", "s.indrel", "--json").stdout.splitlines()]


def kill(*numbers: int) -> None:
    for number in numbers:
        with suppress(ProcessLookupError):
            os.kill(number, signal.SIGKILL)


@needs_browser
def test_a_browser_that_hangs_is_started_again(indrel: Run, tmp_path: Path) -> None:
    """Stopped once in the middle: every page is viewed all the same."""

    def stop_once() -> None:
        until = time.monotonic() + 30
        while time.monotonic() < until:
            if found := [n for n in mains() if time.time() - Path(f"/proc/{n}").stat().st_ctime > 1.5]:
                os.kill(found[0], signal.SIGSTOP)
                return
            time.sleep(0.02)

    pages = {f"/hut{n}": shell(f"setTimeout(() => {{ {FILL} }}, 400)") for n in range(40)}
    threading.Thread(target=stop_once, daemon=True).start()
    with site(pages) as options:
        done = indrel("audit", HOST + "/", "--render=all", "--fail-on=never", "--json", "--save=s.indrel", *options)
    report = json.loads(done.stdout)
    assert done.returncode == 0 and report["complete"], (report["incomplete_because"], done.stderr)
    assert rendered(indrel) == ["ok"] * 41


@needs_browser
def test_what_was_never_viewed_passes_no_gate(indrel: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    """A browser that ends within each view: rendering ends after five starts, and says of how many pages nothing is known."""
    dying, served_as = [True], Site.answer_as

    def answer_as(self: Site, agent: str, scheme: str, host: str, path: str) -> Response:
        if "/inner.js" in path and dying:
            kill(*mains())
        return served_as(self, agent, scheme, host, path)

    monkeypatch.setattr(Site, "answer_as", answer_as)
    asking = "const s = document.createElement('script'); s.src = '/inner.js?' + Math.random(); s.onload = s.onerror = () => {"
    pages = {f"/hut{n}": shell(f"{asking} {FILL} }}; document.head.append(s)") for n in range(5)}
    with site(pages) as options:
        words = ["audit", HOST + "/", "--render=all", "--fail-on=never", "--save=s.indrel", *options]
        done = indrel(*words, "--json", code=3)
        report = json.loads(done.stdout)
        assert not report["complete"] and "could not be rendered" in report["incomplete_because"]
        assert any(
            "could not be rendered" in s["because"] for s in report["skipped_checks"] if s["check"] == "render-broken"
        )
        before = rendered(indrel)
        assert None in before  # what was being viewed when it ended may be put down to the page
        dying.clear()
        again = json.loads(indrel(*words, "--json", "--resume", code=0).stdout)
    after = rendered(indrel)
    assert again["complete"] and after == ["ok" if one is None else one for one in before]


@needs_browser
def test_what_a_killed_browser_left_is_removed_at_the_next_start() -> None:
    """Audit, guard and browser are killed at once: the folder goes with the next start, one in use stays."""
    scratch = Path(tempfile.mkdtemp(prefix="left"))
    scratch.chmod(0o755)
    code = f"from indrel.sources.browser import launch; launch.try_out({launch.find()!r}, True); print('tried', flush=True)"
    keep = f"import asyncio; from indrel.sources.browser.launch import Browser; b = Browser({launch.find()!r}, print)\n"
    keep += "async def run():\n    await b.start()\n    print('there', flush=True)\n    await asyncio.sleep(60)\nasyncio.run(run())"
    env = {**os.environ, "TMPDIR": str(scratch)}
    try:
        holders = [
            subprocess.Popen([sys.executable, "-c", keep], env=env, stdout=subprocess.PIPE, text=True) for _ in range(2)
        ]
        for one in holders:
            assert one.stdout and one.stdout.readline() == "there\n"
        killed, living = holders
        kill(*descendants(killed.pid), killed.pid)
        killed.communicate()
        before = list(scratch.glob("indrel-browser-*"))
        assert len(before) == 2
        assert (
            "tried"
            in subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, timeout=60).stdout
        )
        assert len(list(scratch.glob("indrel-browser-*"))) == 1 and living.poll() is None
        living.kill()
        living.communicate()
    finally:
        kill(*(n for n in descendants(os.getpid()) if str(scratch).encode() in name_of(n)))
        shutil.rmtree(scratch, ignore_errors=True)
