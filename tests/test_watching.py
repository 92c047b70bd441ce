"""The recipes of docs/keep-watch.md, taken out of the document and run; the hooks for commits."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
import sysconfig
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import openpyxl
import yaml

from cases import BASE, HOST, NOINDEX, a, canonical, html, moved, robots, sitemap
from conftest import PROGRAM, served
from indrel.demo.server import DemoServer, Listener
from indrel.demo.site import Response
from indrel.snapshot import SnapshotWriter
from test_program import Run, write_site

ROOT = Path(__file__).parents[1]
RECIPES = re.findall(r"```sh\n(.*?)```", (ROOT / "docs/keep-watch.md").read_text(), re.DOTALL)
GOOD = {
    "index.html": html(canonical("/"), a("/a.html", "/gone")),
    "a.html": html(canonical("/a.html")),
    "robots.txt": robots(),
    "sitemap.xml": sitemap("/", "/a.html"),
}
BAD = {**GOOD, "a.html": html(canonical("/a.html") + NOINDEX)}
PATH = f"{sysconfig.get_path('scripts')}:/usr/bin:/bin"


def sh(folder: Path, script: str, *arguments: str) -> tuple[int, str]:
    done = subprocess.run(
        ["sh", "-c", script, "sh", *arguments], cwd=folder, env={"PATH": PATH}, capture_output=True, text=True, timeout=120
    )  # fmt: skip
    assert "Traceback" not in done.stderr, done.stderr
    return done.returncode, done.stdout


def test_every_night(tmp_path: Path) -> None:
    (tmp_path / "state").mkdir()
    build = write_site(tmp_path / "build", GOOD)

    def night() -> tuple[int, str]:
        return sh(tmp_path, RECIPES[0], str(build), "state")

    code, told = night()
    assert code == 1 and "link-to-gone" in told, "without a baseline all is told"
    assert night() == (0, ""), "nothing new, nothing said"
    write_site(build, BAD)
    code, told = night()
    assert code == 1 and "listed-hidden" in told and "link-to-gone" not in told
    assert night() == (0, "") and (tmp_path / "state/report.html").is_file()
    code, told = sh(tmp_path, RECIPES[0], str(tmp_path / "no-such-folder"), "state")
    assert code == 2 and "is not a folder" in told and (tmp_path / "state/last.indrel").is_file()


def test_each_build(tmp_path: Path) -> None:
    script = RECIPES[1].replace("pip install --quiet indrel\n", "")
    assert script != RECIPES[1] and f"--base {HOST}/" in script
    write_site(tmp_path / "public", GOOD)
    assert sh(tmp_path, script)[0] == 1
    (tmp_path / "audit.indrel").rename(tmp_path / "baseline.indrel")
    assert sh(tmp_path, script)[0] == 0
    write_site(tmp_path / "public", BAD)
    (tmp_path / "audit.indrel").unlink()
    assert sh(tmp_path, script)[0] == 1 and "listed-hidden" in (tmp_path / "audit.md").read_text()
    assert '"uri": "public/a.html"' in (tmp_path / "audit.sarif").read_text()
    write_site(tmp_path / "public", {**GOOD, "robots.txt": robots("Disallow: /a")})  # a prefix that shuts a wanted page
    (tmp_path / "audit.indrel").unlink()
    assert sh(tmp_path, script)[0] == 1
    assert (
        "**lost**" in (tmp_path / "audit.md").read_text()
        and "`public/robots.txt:2`" in (tmp_path / "audit.md").read_text()
    )


def test_each_pull_request(tmp_path: Path) -> None:
    origin = tmp_path / "origin"
    write_site(origin, {f"src/{name}": text for name, text in GOOD.items()})
    (origin / "build").write_text("#!/bin/sh\nrm -rf public && cp -r src public\n")
    (origin / "build").chmod(0o755)

    def git(where: Path, *words: str) -> None:
        name = ["-c", "user.name=Warden", "-c", "user.email=warden@sarnfell.example"]
        subprocess.run(["git", *name, *words], cwd=where, check=True, capture_output=True, timeout=60)

    git(origin, "init", "-q", "-b", "main")
    git(origin, "add", ".")
    git(origin, "commit", "-qm", "site")
    for number, (change, code, told) in enumerate((
        ({"src/b.html": html(canonical("/b.html"))}, 0, "nothing"),
        ({"src/a.html": html(canonical("/a.html") + NOINDEX)}, 1, "listed-hidden"),
        ({"src/robots.txt": robots("Disallow: /a")}, 1, "`public/robots.txt:2`"),
    )):  # fmt: skip
        work = tmp_path / f"job{number}"
        git(tmp_path, "clone", "-q", str(origin), str(work))
        write_site(work, change)
        git(work, "add", "src")
        git(work, "commit", "-qm", "change")
        ended, _ = sh(work, RECIPES[2], "main")
        summary = (work / "summary.md").read_text()
        assert ended == code and (told == "nothing" or told in summary), summary
        assert "link-to-gone" not in summary.partition("checks skipped")[0] or not code, "what stood already is no news"
        first = summary.partition("\n")[0]
        assert "public" not in first and ".indrel" not in first and summary.count("skipped: ") == 1
        assert json.loads((work / "audit.sarif").read_text())["runs"]


def test_before_a_commit(tmp_path: Path) -> None:
    hooks = {h["id"]: h for h in yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text())}
    named = set(re.findall(r"- id: (\S+)", (ROOT / "docs/keep-watch.md").read_text()))
    assert named == set(hooks)
    write_site(
        tmp_path,
        {"a/robots.txt": robots(), "b/robots.txt": "User-agent: *\nDisalow: /x\n", "b/sitemap-x.xml": sitemap("/")},
    )
    for name, files, code in [
        ("indrel-robots", ["a/robots.txt"], 0),
        ("indrel-robots", ["a/robots.txt", "b/robots.txt"], 1),
        ("indrel-sitemap", ["b/sitemap-x.xml"], 0),
    ]:
        assert all(re.search(hooks[name]["files"], file) for file in files)
        command = [PROGRAM, *shlex.split(hooks[name]["entry"])[1:], *files]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=60)
        assert done.returncode == code and all(file in done.stdout for file in files), done.stdout + done.stderr
    assert not re.search(hooks["indrel-robots"]["files"], "docs/robots.txt.md")


def test_history_tells_what_came_and_went_and_forget_keeps_the_newest(indrel: Run, tmp_path: Path) -> None:
    build = tmp_path / "b"
    names = [f"indrel-runs/www.sarnfell.example-2026110{n}T080000Z.indrel" for n in (1, 2, 3, 4)]
    for number, (name, pages) in enumerate(zip(names, (GOOD, BAD, BAD, GOOD), strict=True)):
        write_site(build, pages)
        indrel("audit", "b", "--base", HOST + "/", "--snapshot", name, "--fail-on", "never", code=0)
        with SnapshotWriter(tmp_path / name, resume=True) as writer:
            writer.set_meta(started=f"2026-11-0{number + 1}T08:00:00Z")
    (tmp_path / "indrel-runs/www.sarnfell.example-20261105T080000Z.indrel").write_bytes(b"nonsense")
    done = indrel("history", "--json", "-o", "h.svg", code=0)
    told = json.loads(done.stdout)
    assert [r["verdict"]["lost"] for r in told["runs"]] == [0, 1, 1, 0] and len(told["unreadable"]) == 1
    spans = {c["check"]: c for c in told["causes"]}
    starts = [r["started"] for r in told["runs"]]
    assert (spans["listed-hidden"]["first"], spans["listed-hidden"]["gone"]) == (starts[1], starts[3])
    assert (spans["link-to-gone"]["first"], spans["link-to-gone"]["gone"]) == (starts[0], None)
    assert (tmp_path / "h.svg").read_bytes().startswith(b"<?xml") and "skipped" in done.stderr
    (tmp_path / names[0]).rename(tmp_path / "indrel-runs/before.indrel")
    text = indrel("history", code=0).stdout
    (tmp_path / "indrel-runs/before.indrel").rename(tmp_path / names[0])
    assert ": 4 audits since " in " ".join(text.split()) and "Gone" in text and "1 of 2" in text
    assert "state which ones" in indrel("forget", code=2).stderr
    asked = indrel("forget", "--keep", 2, input="n\n", code=1)
    assert asked.stdout.startswith("www.sarnfell.example: 2 snapshots of 4 to remove")
    assert "1 file cannot be read and stays" in asked.stderr
    assert len(list((tmp_path / "indrel-runs").iterdir())) == 5
    indrel("forget", "--older-than", "1d", "--yes", code=0)
    left = ["www.sarnfell.example-20261104T080000Z.indrel", "www.sarnfell.example-20261105T080000Z.indrel"]
    assert sorted(p.name for p in (tmp_path / "indrel-runs").iterdir()) == left
    assert "nothing to remove" in indrel("forget", "--keep", 1, "--yes", code=0).stdout


def test_a_cause_is_not_gone_while_its_pages_cannot_be_read(indrel: Run) -> None:
    """And a path is one on the audit's site for `sitemap check --from`, which keeps the audit's pace."""
    names = [f"/huts/{n}" for n in range(9)]
    pages = {**BASE, "/": html(canonical("/"), a(*names, "/old")), **{p: html(title=p) for p in names}}
    hidden = {**pages, "/old": html(NOINDEX), "/sitemap.xml": sitemap("/", "/old")}
    site = served(hidden)
    with DemoServer(site=site) as server:
        connect = ["--connect", f"{HOST[8:]}=http://127.0.0.1:{server.port}"]
        for number, answer in enumerate((html(NOINDEX), Response(b"", 503), html(NOINDEX), html(canonical("/old")))):
            site.pages[HOST + "/old"] = (
                answer if isinstance(answer, Response) else served({"/": answer}).pages[HOST + "/"]
            )
            name = f"indrel-runs/www.sarnfell.example-2026110{number}T080000Z.indrel"
            indrel("audit", HOST + "/", "--rate", 0, *connect, "--snapshot", name, "--fail-on", "never", code=None)
        checked = indrel("sitemap", "check", "/sitemap.xml", "--from", name, *connect, code=0)
        assert checked.stdout.startswith(f"{HOST}/sitemap.xml against {HOST[8:]}, ") and "open 2" in checked.stdout
    told = json.loads(indrel("history", "--json", code=0).stdout)
    starts = [run["started"] for run in told["runs"]]
    span = next(c for c in told["causes"] if c["check"] == "listed-hidden")
    assert (span["first"], span["last"], span["gone"]) == (starts[0], starts[2], starts[3])


def test_a_month_for_whoever_pays_for_it(indrel: Run, tmp_path: Path) -> None:
    """What was fixed, what is new, what moved, states over time with equal audits as one, and what became of the requests."""
    start = {"index.html": html(canonical("/"), a("/a.html", "/b.html", "/old.html"))}
    first = {**GOOD, **start, "a.html": html(canonical("/a.html") + NOINDEX), "b.html": html(), "old.html": html()}
    last = {**GOOD, **start, "b.html": html(NOINDEX), "old.html": '<meta http-equiv="refresh" content="0; url=/new.html">',
            "new.html": html(), "robots.txt": robots("Disallow: /b")}  # fmt: skip
    for number, pages in enumerate((first, first, last)):
        build = f"build{number}"  # one site, wherever its files are read
        write_site(tmp_path / build, {**pages, "sitemap.xml": sitemap("/", "/a.html", "/b.html")})
        name = f"indrel-runs/www.sarnfell.example-2026110{number + 1}T080000Z.indrel"
        indrel("audit", build, "--base", HOST + "/", "--snapshot", name, "--fail-on", "never", code=0)
        with SnapshotWriter(tmp_path / name, resume=True) as writer:
            writer.set_meta(started=f"2026-11-0{number + 1}T08:00:00Z")
    indrel("ledger", "request", HOST + "/a.html", "--on", "2026-11-02", code=0)
    indrel("ledger", "done", "--on", "2026-11-02", code=0)
    old = "indrel-runs/www.sarnfell.example-20261101T080000Z.indrel"
    indrel("report", "--since", old, "-o", "m.html", "-o", "m.xlsx", "-o", "m.md", "-o", "m.csv", code=0)
    told = (tmp_path / "m.md").read_text()
    parts = {part.partition("\n")[0]: part for part in told.split("## ")[1:]}
    assert (
        "listed-hidden" in parts["Fixed"] and "listed-barred" in parts["New problems"] and "/new.html" in parts["Moved"]
    )
    assert "| 2026-11-02 | by hand | open |" in parts["Recrawl requests"]
    assert (
        "| 2026-11-01 08" in parts["Over time"]
        and "2026-11-02 08" in parts["Over time"]
        and parts["Over time"].count("\n|") == 4
    )
    page = (tmp_path / "m.html").read_text()
    assert "1 problem fixed or reduced, 2 new" in page and "1 wanted page can no longer be indexed." in page
    assert {row.split(",")[0] for row in (tmp_path / "m.csv").read_text().splitlines()[1:]} == {
        "fixed", "new", "moved", "worse", "better", "new URL",
    }  # fmt: skip
    books = openpyxl.load_workbook(tmp_path / "m.xlsx").sheetnames
    assert books[:3] == ["Overview", "Fixed", "New problems"] and "Over time" in books
    new = "indrel-runs/www.sarnfell.example-20261103T080000Z.indrel"
    done = indrel("compare", old, new, "-o", "c.html", "-o", "c.json", code=1)
    assert not done.stdout and (tmp_path / "c.html").read_text() == page
    assert json.loads((tmp_path / "c.json").read_text())["moved"] == [
        {"url": HOST + "/old.html", "to": HOST + "/new.html"}
    ]
    assert "no report ends like that" in indrel("report", "--since", old, "-o", "m.sarif", code=2).stderr


STAGE = "https://staging.sarnfell.example"


def test_a_copy_held_against_the_live_site(indrel: Run, tmp_path: Path) -> None:
    """Closed or open, by the page; what differs, by what differs and with the lines; what is on one side only, by name."""
    names = ["", *(f"huts/{n}" for n in range(6)), "orphan", "removed"]
    links = a(*(f"/{n}" for n in names), "/old", "/down")
    live = {f"/{n}": html(canonical(f"/{n}"), links, n) for n in names} | {
        "/old": moved("/huts/1"), "/down": Response(b"", 503), "/robots.txt": robots("Disallow: /private/"),
        "/sitemap.xml": sitemap(*(f"/{n}" for n in names)),
    }  # fmt: skip
    live["/huts/1"] = html(f'<link rel="canonical" href="{STAGE}/huts/1">', links, "huts/1")
    copy = {f"/{n}": html(canonical(f"/{n}"), a(*(f"/{n}" for n in names[:7]), "/new"), n) for n in names[:8]}
    copy |= {"/huts/2": html(NOINDEX), "/old": moved("/huts/2"), "/new": html(), "/huts/5": Response(b"", 503), "/down": html(),
             "/robots.txt": robots("Disallow: /private/", "Disallow: /basket")}  # fmt: skip
    copy |= {f"/huts/{n}": html(f'<link rel="canonical" href="https://wrong.example/huts/{n}">') for n in (3, 4)}
    site = served({**live, **{STAGE + path: answer for path, answer in copy.items()}})
    with DemoServer(site=site) as server:
        options = [o for c in server.connect for o in ("--connect", c)] + ["--rate", "0"]
        staged = ["audit", STAGE + "/", *options, "--snapshot", "s.indrel", "--against", HOST + "/"]
        found = json.loads(indrel(*staged, "--json", code=1).stdout)
        told = " ".join(indrel(*staged, code=1).stdout.split())
    assert not found["closed"] and (found["open_count"], found["pointing_to_live"]) == (7, 4)
    assert (
        "the copy is open: 7 pages not closed, the canonicals of 4 point to the live page, which is only a hint" in told
    )
    assert [(d["what"], d["live"], d["copy"], d["count"]) for d in found["differences"]] == [
        ("canonical", "itself", "the same path on https://wrong.example", 2),
        ("canonical", "the copy's page", "the live page", 1), ("redirect", STAGE + "/huts/1", STAGE + "/huts/2", 1),
        ("robots", "none", "noindex", 1), ("status", "200", "404", 1),
    ]  # fmt: skip
    lines = {d["what"]: [e and (e["line"], e["text"]) for e in d["evidence"].values()] for d in found["differences"]}
    assert lines["robots"] == [None, (2, NOINDEX)] and lines["redirect"][1] == (None, "Location: /huts/2")
    assert [(r["change"], r["line"], r["text"]) for r in found["rules"]] == [("new", 3, "Disallow: /basket")]
    assert (
        found["missing"] == [HOST + "/removed"] and "missing on the copy https://www.sarnfell.example/removed" in told
    )
    assert {(u["url"], u["side"], u["because"]) for u in found["unknown"]} == {
        (STAGE + "/huts/5", "copy", "503 Service Unavailable"), (STAGE + "/down", "live", "503 Service Unavailable"),
    }  # fmt: skip
    assert "/orphan" not in str(found["missing"]) and found["only_copy"] == 1, (
        "a page that nothing on the copy links to is requested"
    )
    newest = max((tmp_path / "indrel-runs").iterdir())
    assert " ".join(indrel("audit", "s.indrel", "--against", newest, code=1).stdout.split()) == told
    assert "there is nothing" not in indrel("audit", "s.indrel", "--against", "no-such", code=2).stderr


def test_a_copy_that_requires_a_login_is_closed(indrel: Run, tmp_path: Path) -> None:
    """Even if it was read with the login, which the live site never sees; a copy of which nothing was read is not known to be."""
    seen = []

    class Locked(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            host, login = self.headers["Host"], self.headers["Authorization"]
            seen.append((host, login))
            is_shut = host.startswith("staging") and (login != "Basic xyz" or self.path == "/gone")
            self.send_response(404 if self.path == "/gone" else 401 if is_shut else 200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(b"" if is_shut or self.path == "/robots.txt" else html(body=a("/x", "/gone")).encode())

        def log_message(self, format: str, *args: object) -> None:
            pass

    with Listener(0, Locked) as server:
        at = [
            o
            for h in ("staging.", "www.", "")
            for o in ("--connect", f"{h}sarnfell.example=http://127.0.0.1:{server.port}")
        ]
        words = ["--against", HOST + "/", *at, "--rate", "0"]
        told = json.loads(
            indrel("audit", STAGE + "/", *words, "--header", "Authorization: Basic xyz", "--json", code=0).stdout
        )
        nothing = indrel("audit", STAGE + "/gone", *words, "--no-follow-links", code=3)
        count = len(seen)  # a snapshot chooses no place to connect to
        kept = sorted((tmp_path / "indrel-runs").glob("staging*"))[0]
        told_again = indrel("audit", kept, "--against", next((tmp_path / "indrel-runs").glob("www*")), *at, code=1)
    assert len(seen) == count and "name its URL to learn whether it is closed without one" in told_again.stderr
    assert (
        told["closed"] and told["closed_by"][0]["text"] == "401 Unauthorized, without the login" and told["common"] == 2
    )
    assert {login for host, login in seen if host.startswith("www")} == {None}
    assert "nothing of the copy was read, so whether it is closed is unknown" in " ".join(nothing.stdout.split())
