"""Snapshots that are damaged, and snapshots that two processes write."""

from __future__ import annotations

import random
import subprocess
import time
from collections import Counter
from pathlib import Path

from cases import HOST, a, html, robots
from conftest import PROGRAM, served
from indrel.demo.server import DemoServer
from test_program import Run, write_site

QUESTIONS = (["audit"], ["list", "--from"], ["explain", "/a1.html", "--from"], ["report", "-o", "x.json", "--from"])
TRIED = 28


def damaged(whole: bytes, kind: int, at: random.Random) -> bytes:
    """Cut, with some octets changed, or with a block of nothing."""
    octets = bytearray(whole)
    if kind == 0:
        return whole[: at.randrange(20, len(whole))]
    places = {1: [at.randrange(12, 3 << 12)], 2: [at.randrange(len(whole)) for _ in range(60)]}.get(kind, [])
    for place in places:
        octets[place] ^= at.randrange(1, 256)
    if kind == 3:
        begin = at.randrange(1 << 12, len(whole) - 5_000)
        octets[begin : begin + 4_096] = bytes(4_096)
    return bytes(octets)


def test_damage_is_told(indrel: Run, tmp_path: Path) -> None:
    """A damaged snapshot is answered from where it is whole, or refused in a line; never a fault, never a hang."""
    pages = {f"a{n}.html": html(body=a(*(f"/a{k}.html" for k in range(n % 40)))) for n in range(120)}
    write_site(tmp_path / "b", {**pages, "robots.txt": "User-agent: *\nDisallow: /a3\n"})
    indrel("audit", "b", "--base", HOST + "/", "--snapshot", "s.indrel", "--fail-on", "never", code=0)
    whole, at = (tmp_path / "s.indrel").read_bytes(), random.Random(11)
    tally: Counter[str] = Counter()
    for number in range(TRIED):
        (tmp_path / "x.indrel").write_bytes(damaged(whole, number % 4, at))
        done = indrel(*QUESTIONS[number // 4 % 4], "x.indrel")
        last = done.stderr.strip().splitlines()[-1:] or [""]
        told = (
            "answered"
            if done.returncode in (0, 1)
            else "refused"
            if "damaged" in last[0] or "not a snapshot" in last[0]
            else last[0]
        )
        tally[told] += 1
    print(f"{TRIED} damaged snapshots: {dict(tally)}")
    assert set(tally) <= {"answered", "refused"} and tally["refused"] > TRIED / 3


def test_two_audits_into_one_snapshot(tmp_path: Path) -> None:
    """The second is refused in a line and takes nothing from the first."""
    pages = {"/": html(body=a(*(f"/p{n}" for n in range(30)))), "/robots.txt": robots()} | {
        f"/p{n}": html() for n in range(30)
    }
    with DemoServer(site=served(pages)) as server:
        options = [o for c in server.connect for o in ("--connect", c)]
        command = [
            PROGRAM,
            "audit",
            HOST + "/",
            "--rate",
            "8",
            "--snapshot",
            "s.indrel",
            "--fail-on",
            "never",
            *options,
        ]
        first = subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while not (tmp_path / "s.indrel").exists():
            time.sleep(0.05)
        time.sleep(0.5)
        second = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=60)
        assert second.returncode == 2 and "s.indrel is being written by another process" in second.stderr
        assert first.wait(60) == 0
    listed = subprocess.run([PROGRAM, "list", "--from", "s.indrel"], cwd=tmp_path, capture_output=True, text=True)
    assert ": 31 addresses" in listed.stdout
