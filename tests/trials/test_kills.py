"""Audits killed, interrupted and ended at random instants: resumed, they say what an unbroken one says.

A few of each in the suite; 40 kills, 10 interruptions and 5 terminations with `INDREL_TRIALS=full`.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import re
import signal
import subprocess
import time
from collections import Counter
from pathlib import Path
from typing import Any

from cases import BASE, HOST, NOINDEX, a, html, robots, sitemap
from conftest import PROGRAM, served
from indrel.demo.server import DemoServer

FULL = os.environ.get("INDREL_TRIALS") == "full"
HOW = {signal.SIGKILL: 40 if FULL else 3, signal.SIGINT: 10 if FULL else 1, signal.SIGTERM: 5 if FULL else 1}
PAGES = 600 if FULL else 150
SITE: dict[str, Any] = {
    **BASE,
    "/": html(body=a(*(f"/p/{n}" for n in range(0, PAGES, 9)))),
    "/robots.txt": robots("Disallow: /p/13"),
    "/sitemap.xml": sitemap(*(f"/p/{n}" for n in range(0, PAGES, 7))),
    **{
        f"/p/{n}": html(NOINDEX if n % 7 == 0 else "", a(*(f"/p/{n * k % PAGES}" for k in range(1, 9)), f"/gone/{n % 5}"), f"page {n}")
        for n in range(PAGES)
    },
}  # fmt: skip
ENDS_WITHIN = 10.0


def command(server: DemoServer, snapshot: str, *more: str) -> list[str]:
    place = f"http://127.0.0.1:{server.port}"
    hosts = [part for host in (HOST[8:], HOST[12:]) for part in ("--connect", f"{host}={place}")]
    return [str(PROGRAM), "audit", f"{HOST}/", "--rate", "0", "--json", "--fail-on", "never", "--per-pattern", "10000",
            "--snapshot", snapshot, *hosts, *more]  # fmt: skip


def said(text: str) -> tuple[Any, ...]:
    doc = json.loads(text)
    found = [
        json.dumps({k: f[k] for k in ("check", "severity", "url", "crawlers", "message")}) for f in doc["findings"]
    ]
    return sorted(found), doc["counts"], doc["complete"]


def test_a_broken_audit_resumed_is_an_unbroken_one(tmp_path: Path) -> None:
    chance = random.Random(2_031)
    tally: Counter[tuple[str, str]] = Counter()
    slowest = 0.0
    with DemoServer(site=served(SITE)) as server:
        began = time.monotonic()
        whole = subprocess.run(
            command(server, "whole.indrel"), cwd=tmp_path, capture_output=True, text=True, timeout=120
        )
        lasted, wanted = time.monotonic() - began, said(whole.stdout)
        assert wanted[2] and len(wanted[0]) > 20
        for number, how in enumerate(how for how, count in HOW.items() for _ in range(count)):
            snapshot = f"{number}.indrel"
            audit = subprocess.Popen(
                command(server, snapshot), cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
                start_new_session=True,
            )  # fmt: skip
            time.sleep(chance.uniform(0.3, lasted))
            sent = time.monotonic()
            os.killpg(audit.pid, how)
            audit.communicate(timeout=60)
            if how is not signal.SIGKILL:
                slowest = max(slowest, time.monotonic() - sent)
            if audit.returncode == 0:
                tally[how.name, "had ended"] += 1
                continue
            again = subprocess.run(
                command(server, snapshot, "--resume"), cwd=tmp_path, capture_output=True, text=True, timeout=120
            )
            if again.returncode == 2:  # ended before there was a snapshot
                assert "run the audit without --resume" in again.stderr, again.stderr
                tally[how.name, "nothing to resume: told"] += 1
                continue
            assert again.returncode == 0 and said(again.stdout) == wanted, (how, snapshot, again.stderr)
            tally[how.name, "resumed, equal"] += 1
    print(f"\n{'signal':<10}{'what came of it':<28}times")
    for (name, what), count in sorted(tally.items()):
        print(f"{name:<10}{what:<28}{count}")
    print(f"interrupted and terminated audits ended within {slowest:.1f} s")
    assert slowest < ENDS_WITHIN


def test_the_same_input_gives_the_same_bytes(tmp_path: Path) -> None:
    texts = []
    with DemoServer(site=served(SITE)) as server:
        for name in ("one.indrel", "two.indrel"):
            done = subprocess.run(
                [*command(server, name, "--parallel", "16"), "-o", "r.md", "-o", "r.csv"], cwd=tmp_path, capture_output=True, text=True,
                timeout=120,
            )  # fmt: skip
            text = done.stdout + "".join((tmp_path / f"r.{ending}").read_text() for ending in ("md", "csv"))
            texts.append(re.sub(r"\d{4}-\d\d-\d\d[T ]\d\d:\u2060?\d\d(:\d\dZ)?", "MOMENT", text))
    assert texts[0] == texts[1]


def test_an_interrupted_output_says_so(tmp_path: Path) -> None:
    """SIGINT while an audit is read, judged or output: JSON is whole or absent, and standard error says which."""
    (tmp_path / "b").mkdir()
    for n in range(1_500):
        (tmp_path / f"b/{n}.html").write_text(
            html(NOINDEX if n % 3 else "", a(*(f"/{n * k % 1_500}.html" for k in range(20))), f"page {n}")
        )
    words = [str(PROGRAM), "audit", "b", "--base", f"{HOST}/", "--json", "--fail-on", "never"]
    whole = time.monotonic()
    subprocess.run([*words, "--save", "0.indrel"], cwd=tmp_path, capture_output=True, timeout=120)
    whole = time.monotonic() - whole
    ends = set()
    for part in (0.3, 0.6, 0.8, 0.95):
        run = subprocess.Popen(
            [*words, "--save", f"{part}.indrel"],
            cwd=tmp_path,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        with contextlib.suppress(subprocess.TimeoutExpired):
            run.wait(whole * part)
        run.send_signal(signal.SIGINT)
        out, err = run.communicate(timeout=60)
        assert run.returncode in (0, 130), err
        if run.returncode == 130:
            assert "interrupted" in err
            ends.add("whole" if out and json.loads(out) else "nothing")
    assert ends, "no run was interrupted"
