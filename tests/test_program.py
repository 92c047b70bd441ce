"""The installed program, run whole: on the demonstration site, on folders, on input that is wrong."""

from __future__ import annotations

import csv
import gzip
import json
import os
import re
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, XMLNS, a, canonical, entries, html, loc, robots, sitemap
from conftest import PROGRAM, BothServer, lines_of, served
from indrel.cli.app import COMMANDS
from indrel.demo.server import DemoServer
from indrel.demo.site import Response, Site, build

Run = Callable[..., "subprocess.CompletedProcess[str]"]
DEMO_CHECKS = {
    "site-barred", "robots-unreachable", "robots-is-page", "robots-missing", "robots-unknown-field", "robots-orphan-rule",
    "barred-wanted", "barred-noindex", "site-noindex", "noindex-wanted", "noindex-partial", "robots-sources-differ",
    "robots-self-contradicts", "robots-tag-in-body", "robots-token-slip", "canonical-several", "canonical-in-body",
    "canonical-to-gone", "canonical-to-redirect", "canonical-to-hidden", "canonical-to-barred", "canonical-and-noindex",
    "only-nofollow-path", "link-to-gone", "sitemap-is-page", "sitemap-unreadable", "listed-hidden", "listed-barred",
    "robots-bad-path", "robots-anchor-slip", "robots-unsupported-field", "robots-empty-agent", "robots-split-group",
    "robots-group-replaces-all", "robots-rule-never-wins", "robots-foreign-sitemap", "robots-tells-secrets", "robots-overreach",
    "robots-case-slip", "robots-rule-unused", "resource-barred", "barred-to-hide",
    "listed-folded", "listed-redirects", "listed-gone", "listed-broken", "listed-locked", "missing-answers-200",
}  # fmt: skip


def write_site(folder: Path, files: dict[str, str | bytes]) -> Path:
    for name, content in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return folder


def test_demo_shows_every_situation(demo: Path) -> None:
    report = json.loads((demo / "indrel-demo" / "report.json").read_text())
    assert report["complete"] and report["counts"]["addresses"] >= 120 and not report.get("crashed_checks")
    assert {f["check"] for f in report["findings"]} >= DEMO_CHECKS
    assert list(report["counts"]["states"]) == ["googlebot", "bingbot", "*"]
    tags = next(c for c in report["causes"] if c["check"] == "listed-hidden")
    assert (tags["count"], tags["section"], tags["severity"]) == (10, "/tag/*", "fix")
    with (demo / "indrel-demo" / "report.csv").open(newline="") as file:
        assert len(list(csv.DictReader(file))) == len([f for f in report["findings"] if not f["follows"]])


def test_later_commands_work_from_the_newest_snapshot(demo: Path, indrel: Run) -> None:
    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        return indrel(*arguments, cwd=demo, columns=200)

    (demo / "one.txt").write_text("User-agent: *\nDisallow: /search\n")
    newest = max((demo / "indrel-runs").iterdir())
    told = json.loads(run("robots", "check", "one.txt", "--from", str(newest), "--json").stdout)["findings"]
    assert told and {f["url"].split("/")[2] for f in told} == {HOST.split("/")[2]}  # of no other host's file
    rows = lines_of(run("list", "--json", "--state", "barred").stdout)
    assert len(rows) >= 14 and all("barred" in row["states"].values() for row in rows)
    assert set(rows[0]) >= {"url", "kind", "section", "want", "states", "status", "folds_into"}
    folded = lines_of(run("list", "--json", "--section", "/huts/*", "--state", "folded").stdout)
    assert [(r["url"], r["folds_into"]) for r in folded] == [
        (f"{HOST}/huts/over-sarn/?view=map", f"{HOST}/huts/over-sarn/")
    ]
    table = run("list", "--want", "show").stdout.splitlines()
    assert table[0].startswith("www.sarnfell.example, ") and "115 URLs, 114 of them wanted pages (variants" in table[0]
    assert table[1].split()[:3] == ["URL", "kind", "want"] and len(table) > 80
    told = json.loads(run("explain", "/bookings/birk-howe/", "--json").stdout)
    assert set(told["states"].values()) == {"barred"}
    rule = next(s for s in told["steps"]["bingbot"] if s["step"] == "rule")
    assert rule["evidence"][0] == {
        "kind": "robots",
        "where": f"{HOST}/robots.txt",
        "line": 19,
        "text": "Disallow: /bookings/",
    }
    text = run("explain", "/tag/winter/").stdout
    assert (
        f" UTC: {HOST}/tag/winter/ is hidden" in " ".join(text.split())
        and ':6  <meta name="robots" content="noindex, follow">' in text
    )
    unknown = run("explain", "/search?q=other")
    assert unknown.returncode == 0 and "barred" in unknown.stdout.splitlines()[0]
    out = demo / "again.json"
    assert run("report", "-o", str(out)).returncode == 0
    again, first = (json.loads(p.read_text()) for p in (out, demo / "indrel-demo" / "report.json"))
    assert again == first
    snapshot = next((demo / "indrel-runs").glob("*.indrel"))
    assert json.loads(run("audit", str(snapshot), "--json").stdout)["findings"] == first["findings"]


def test_folder(indrel: Run, tmp_path: Path) -> None:
    folder = write_site(
        tmp_path / "build",
        {
            "index.html": html(canonical("/"), a("/a", "b.html", "/gone", "files/x.pdf", "/sub", "/p/q.html")),
            "a.html": html(canonical("/a"), title="A"),
            "b.html": html(NOINDEX, title="B"),
            "sub/index.html": html("", a("../b.html?x=1")),
            "p/q.html": html(NOINDEX),
            "files/x.pdf": b"%PDF-1.4",
            "robots.txt": robots("Disallow: /p/", f"Sitemap: {HOST}/sitemap.xml"),
            "sitemap.xml": sitemap("/", "/a", "/b.html"),
        },
    )
    done = indrel("audit", folder, "--json", "--snapshot", "s.indrel", code=1)
    report = json.loads(done.stdout)
    grave = [f for f in report["findings"] if f["severity"] in ("stop", "fix")]
    found = {(f["check"], f["url"].removeprefix(HOST)) for f in grave}
    assert found == {
        ("listed-hidden", "/b.html"), ("barred-noindex", "/p/q.html"), ("link-to-gone", "/gone"),
    }  # fmt: skip
    hidden = next(f for f in report["findings"] if f["check"] == "listed-hidden")
    assert [(e["where"], e["line"]) for e in hidden["evidence"]] == [("b.html", 2), (f"{HOST}/sitemap.xml", 3)]
    assert {s["check"] for s in report["skipped_checks"]} >= {
        "robots-unreachable", "barred-unread", "missing-answers-200", "robots-redirects", "robots-host-differs",
        "robots-agent-differs",
    }  # fmt: skip
    states = {
        r["url"].removeprefix(HOST): r["states"]["*"] for r in lines_of(indrel("list", "s.indrel", "--json").stdout)
    }
    assert (
        states["/a"] == "open"
        and "/a.html" not in states
        and states["/sub"] == "folded"
        and states["/files/x.pdf"] == "open"
    )
    twice = indrel("audit", folder, "--json", "--snapshot", "t.indrel").stdout
    assert json.loads(twice)["findings"] == report["findings"]


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (("audit", "http://127.0.0.1:1/"), 3, "stopped answering"),
        (("audit", "https://no-such-host.test/"), 3, "no such host"),
        (("audit", "nowhere"), 2, "nowhere is not a folder"),
        (("audit", "old.indrel"), 2, "old.indrel is not a folder"),
        (("audit", "ftp://h.example/"), 2, "cannot be audited"),
        (("audit", "empty"), 2, "has no HTML file"),
        (("audit", "text.txt"), 2, "not a snapshot"),
        (("list", "text.txt"), 2, "not a snapshot"),
        (("list",), 2, "no snapshot in indrel-runs"),
        (("report", "text.txt", "-o", "x.doc"), 2, "no report ends like that"),
        (("audit", "empty", "-o", "no/such/x.json"), 2, "does not exist"),
        (("audit", "http://h.example/", "--connect", "h"), 2, "HOST=ADDRESS:PORT"),
        (("audit", "http://h.example/", "--also", "text.txt"), 2, "text.txt:1"),
        (("audit", "http://h.example/", "--fail-on", "bad"), 2, "--fail-on"),
        (("audit", "http://h.example/", "--snapshot", "text.txt"), 2, "is not a snapshot"),
        (("audit", "http://h.example/", "--crawler", " "), 2, "a crawler has no name"),
        (("checks", "listed-hiden"), 2, "Did you mean `listed-hidden`?"),
        (("audit", "--no-such-option"), 2, "No such option"),
    ],
)
def test_wrong_input(arguments: tuple[str, ...], code: int, says: str, indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    (tmp_path / "text.txt").write_text("not an address\n")
    done = indrel(*arguments, code=code)
    assert says in done.stderr
    assert (tmp_path / "text.txt").read_text() == "not an address\n"


def test_snapshot_of_another_version(indrel: Run, tmp_path: Path) -> None:
    import duckdb

    with duckdb.connect(str(tmp_path / "old.indrel")) as con:
        con.execute("CREATE TABLE meta (name VARCHAR, value VARCHAR)")
        con.execute("INSERT INTO meta VALUES ('schema', '0')")
    assert "older Indrel" in indrel("list", "old.indrel", code=2).stderr


def audit_served(
    indrel: Run, pages: dict[str, Any] | Site, *options: str, code: int | None = None, certificate: Path | None = None
) -> tuple[Any, dict[str, Any]]:
    site = pages if isinstance(pages, Site) else served(pages)
    with BothServer(site, certificate) if certificate else DemoServer(site=site) as server:
        connect = [f"--connect={one}" for one in server.connect if "sarnfell.example=" in one]
        done = indrel(
            "audit",
            HOST + "/",
            "--rate=0",
            "--json",
            "--snapshot=s.indrel",
            "--timeout=2",
            *connect,
            *options,
            code=code,
        )
        return done, json.loads(done.stdout)


def test_exit_codes_and_limits(indrel: Run) -> None:
    pages = {
        **BASE,
        "/": html(body=a("/a", "/b")),
        "/a": html(NOINDEX),
        "/b": html(),
        "/sitemap.xml": sitemap("/", "/a"),
    }
    assert audit_served(indrel, pages, code=1)[1]["counts"]["findings"]["fix"] == 1
    audit_served(indrel, pages, "--fail-on=stop", code=0)
    audit_served(indrel, pages, "--fail-on=never", code=0)
    _, cut = audit_served(indrel, pages, "--limit=1", "--fail-on=stop", code=0)
    assert cut["complete"] is False and "--limit 1" in cut["incomplete_because"]
    _, lone = audit_served(indrel, pages, "--no-follow-links", code=1)
    assert lone["counts"]["addresses"] == 3 and "only-nofollow-path" in {s["check"] for s in lone["skipped_checks"]}


def test_hostile_site(indrel: Run) -> None:
    """Absurd and broken answers: each is a fact, none is the end of the audit."""
    bomb = gzip.compress(b"<urlset>" + b" " * 300_000_000)
    pages = {
        "/robots.txt": "User-agent: *\nDisallow: /x\x1b[31m\0\n"
        + f"Sitemap: {HOST}/cut.xml.gz\nSitemap: {HOST}/bomb.gz\n"
        f"Sitemap: {HOST}/entity.xml\n",
        "/cut.xml.gz": Response(gzip.compress(sitemap("/a").encode())[:-9], media_type="application/gzip"),
        "/bomb.gz": Response(bomb, media_type="application/gzip"),
        "/entity.xml": f'<!DOCTYPE x [<!ENTITY e "&#x2F;">]><urlset {XMLNS}><url><loc>{HOST}&e;</loc></url></urlset>',
        "/": html(body=a("/deep", "/loop", "/big", "/binary", "/attr", "/\x1b[2J", "http://[bad", "/=1+1")),
        "/deep": Response(b"<title>d</title>" + b"<div>" * 200_000 + b"x" * 40_000_000),
        "/attr": Response(b"<p " + b"a=1 " * 200_000 + b">"),
        "/loop": Response(b"", 302, headers=(("Location", "/loop2"),)),
        "/loop2": Response(b"", 302, headers=(("Location", "/loop"),)),
        "/binary": Response(os.urandom(20_000)),
        "/=1+1": html('<meta name="robots" content="=cmd|x,\x1b]0;t\x07">'),
    }
    _, report = audit_served(indrel, pages, "-o=x.csv", code=1)
    faults = {
        f["url"].removeprefix(HOST): f["message"] for f in report["findings"] if f["check"] == "sitemap-unreadable"
    }
    assert "ends too early" in faults["/cut.xml.gz"] and "entities" in faults["/entity.xml"]
    states = {
        r["url"].removeprefix(HOST): r["states"]["*"] for r in lines_of(indrel("list", "s.indrel", "--json").stdout)
    }
    assert states["/deep"] == states["/attr"] == "unread", "what stands behind the cut is not known"
    assert states["/binary"] == "open" and states["/loop"] == "broken"
    for words in (("/deep", "--from", "s.indrel"), ("/deep", "s.indrel"), ("s.indrel", "/deep")):
        assert "not read completely: elements nested" in indrel("explain", *words, code=0).stdout
    shown = indrel("audit", "s.indrel", "-v")
    assert not any(c in shown.stdout + shown.stderr for c in "\x1b\x07\0")


def test_endless_links_end(indrel: Run) -> None:
    class Calendar(dict[str, Response]):
        def get(self, url: str, default: Any = None) -> Any:
            month = url.rpartition("/")[2]
            if not month.isdigit():
                return super().get(url, default)
            return Response(html(body=a(f"/cal/{int(month) + 1}")).encode())

    site = served({**BASE, "/": html(body=a("/cal/1"))})
    site.pages = Calendar(site.pages)
    with DemoServer(site=site) as server:
        done = indrel(
            "audit", HOST + "/", "--rate=0", "--json", "--per-pattern=30",
            f"--connect=www.sarnfell.example=http://127.0.0.1:{server.port}", code=1,
        )  # fmt: skip
    report = json.loads(done.stdout)
    assert "endless-space" in {c["check"] for c in report["causes"] if c["severity"] == "fix"}
    assert report["complete"] and report["bounded_patterns"] == [{"pattern": f"{HOST}/cal/*", "left": 1}]
    assert 30 < report["counts"]["addresses"] < 40


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_resume_fetches_only_what_is_missing(how: signal.Signals, tmp_path: Path) -> None:
    asked: list[str] = []
    many = [f"/p/{n}" for n in range(60)]
    site = served({**BASE, "/": html(body=a(*many)), **{p: html(title=p) for p in many}})
    answer = site.answer
    site.answer = lambda s, h, p: (asked.append(p), answer(s, h, p))[1]  # type: ignore[method-assign]
    with DemoServer(site=site) as server:
        command = [PROGRAM, "audit", HOST + "/", "--json", "--snapshot", "s.indrel", "--parallel", "2", "--rate", "30"]
        command += ["--connect", f"www.sarnfell.example=http://127.0.0.1:{server.port}"]
        first = subprocess.Popen(
            command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        while len([p for p in asked if p.startswith("/p/")]) < 20:
            time.sleep(0.05)
        time.sleep(0.6 if how is signal.SIGKILL else 0)
        workers = Path(f"/proc/{first.pid}/task/{first.pid}/children").read_text().split()
        if how is signal.SIGKILL:
            first.send_signal(how)
        else:  # as terminals and schedulers do: the parsers are told, too
            os.killpg(first.pid, how)
        assert first.wait(20) == (-9 if how is signal.SIGKILL else 130)
        before = len(asked)
        done = subprocess.run([*command, "--resume"], cwd=tmp_path, capture_output=True, text=True, timeout=60)
        assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert report["complete"] and report["counts"]["states"]["*"] == {"open": 61} and not report["notes"]
    twice = {p for p in asked if p.startswith("/p/") and asked.count(p) > 1}
    assert len(twice) <= (20 if how is signal.SIGKILL else 0) and before < len(asked)
    patience = time.monotonic() + 20
    while any(Path(f"/proc/{pid}/stat").exists() for pid in workers) and time.monotonic() < patience:
        time.sleep(0.2)
    assert workers and not [pid for pid in workers if Path(f"/proc/{pid}/stat").exists()], (
        "parsers outlive what they parse for"
    )


def test_a_site_that_stops_answering(indrel: Run) -> None:
    many = [f"/p/{n}" for n in range(60)]
    site = served({**BASE, "/": html(body=a(*many)), **{p: html(title=p) for p in many}})
    asked: list[str] = []
    answer = site.answer

    def failing(scheme: str, host: str, path: str) -> Response:
        asked.append(path)
        if len(asked) > 30:
            raise ConnectionError("dropped")
        return answer(scheme, host, path)

    site.answer = failing  # type: ignore[method-assign]
    done, report = audit_served(indrel, site, code=3)
    assert "stopped answering" in done.stderr and report["complete"] is False
    assert 0 < report["counts"]["states"]["*"]["open"] < 61


def test_start_page_that_is_no_html(indrel: Run) -> None:
    pages = {"/robots.txt": robots(), "/": Response(b"%PDF", media_type="application/pdf")}
    _, report = audit_served(indrel, pages, code=0)
    assert report["complete"] and report["counts"]["states"]["*"] == {"open": 1}


def test_a_preview_is_told_how_to_be_audited(indrel: Run) -> None:
    here, pages = "http://127.0.0.1", {"/": html(canonical("/"), a("/a")), "/a": html(canonical("/a"), a("/"))}
    with DemoServer(site=served({**pages, **{here + path: page for path, page in pages.items()}})) as server:
        told = " ".join(indrel("audit", f"{here}:{server.port}/", "--rate", "0", code=1).stdout.split())
        advice = f"audit {HOST}/ --connect {HOST[8:]}=http://127.0.0.1:{server.port}"
        assert f"If this is a preview of {HOST}, audit it under that name: indrel {advice}" in told
        assert "The only wanted page can be indexed" in indrel(*advice.split(), "--rate", "0", code=0).stdout
    bad = served({here + "/": html('<link rel="canonical" href="https://a;id.example/">')})
    with DemoServer(site=bad) as server:  # a page chooses the name that the command is written with
        told = " ".join(indrel("audit", f"{here}:{server.port}/", "--rate", "0", code=1).stdout.split())
        assert "indrel audit 'https://a;id.example/' --connect 'a;id.example=" in told


def test_readme_demo_site_is_whole() -> None:
    assert len([u for u in build().pages if "robots.txt" not in u]) >= 120


def everywhere(asked: list[str], **instead: Response) -> Site:
    """A site that each variant of its host serves alike, but for what stands `instead` by scheme; notes what it is asked."""
    site = served({**BASE, "/": html(body=a("/a")), "/a": html()})
    answer = site.answer

    def same(scheme: str, host: str, path: str) -> Response:
        asked.append(f"{scheme}://{host}{path}")
        own = instead.get(scheme) if path == "/robots.txt" else None
        return own or answer("https", "www.sarnfell.example", path)

    site.answer = same  # type: ignore[method-assign]
    return site


VARIANTS = ("http://www.sarnfell.example", "http://sarnfell.example", "https://sarnfell.example")


def test_variants_are_tried_once(indrel: Run, certificate: Path) -> None:
    """The http and bare variants answer with the same pages: robots.txt first, then the page; they are not crawled."""
    asked: list[str] = []
    _, report = audit_served(indrel, everywhere(asked), code=1, certificate=certificate)
    assert report["counts"]["addresses"] == 2
    assert [(c["check"], c["count"]) for c in report["causes"] if c["severity"] == "fix"] == [
        ("host-variants-serve", 1)
    ]
    variants = [url for url in asked if not url.startswith(HOST)]
    assert sorted(variants) == sorted(origin + path for origin in VARIANTS for path in ("/", "/robots.txt"))
    assert all(variants.index(f"{one}/robots.txt") < variants.index(f"{one}/") for one in VARIANTS)


@pytest.mark.parametrize(
    "rules", [Response(b"", 503), Response(b"", 429), Response(b"User-agent: *\nDisallow: /", media_type="text/plain")]
)
def test_the_rules_of_a_variant_are_obeyed(rules: Response, indrel: Run, certificate: Path) -> None:
    """A variant whose robots.txt keeps its home page from being read: it is not requested."""
    asked: list[str] = []
    audit_served(indrel, everywhere(asked, http=rules), certificate=certificate)
    assert "http://www.sarnfell.example/robots.txt" in asked and "https://sarnfell.example/" in asked
    assert not [url for url in asked if url.startswith("http:") and not url.endswith("/robots.txt")]


@pytest.mark.parametrize("speaks", ["http", "https"])
def test_a_server_of_one_protocol_has_no_variant_of_the_other(speaks: str, indrel: Run, certificate: Path) -> None:
    """`--connect` to a server without the other protocol: nothing is found of that, and links to it are unread."""
    other = "https" if speaks == "http" else "http"
    link, here = f"{other}://www.sarnfell.example/a", f"{speaks}://www.sarnfell.example"
    rules = Response(robots().encode(), media_type="text/plain")
    pages = {f"{here}/": html(body=a("/a", link)), f"{here}/a": html(), f"{here}/robots.txt": rules}
    with BothServer(served(pages), certificate, (speaks,)) as server:
        words = [f"--connect={one}" for one in server.connect]
        done = indrel("audit", f"{here}/", "--json", "--rate=0", "--save=s.indrel", *words)
    report = json.loads(done.stdout)
    assert {f["check"] for f in report["findings"]} <= {"sitemap-none", "robots-empty-agent", "canonical-none"}, report[
        "findings"
    ]
    rows = {row["url"]: row["states"]["*"] for row in lines_of(indrel("list", "s.indrel", "--json").stdout)}
    assert rows[link] == "unread" and list(rows.values()).count("open") == 2


def test_every_command_has_help(indrel: Run) -> None:
    shown = indrel("--help", code=0).stdout
    for name, (_, line) in COMMANDS.items():
        assert re.search(rf"^  {name} +{re.escape(line)}$", shown, re.MULTILINE), f"the line of {name} is broken"
        assert indrel(name, "--help", code=0).stdout.startswith(f"Usage: indrel {name} ")
    assert "Did you mean 'list'?" in indrel("lst", code=2).stderr


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_a_folder_that_is_broken_off_leaves_no_reader_behind(how: signal.Signals, tmp_path: Path) -> None:
    """Also where what a reader has to say is more than waits in a pipe: nobody takes it any more."""
    (tmp_path / "b").mkdir()
    for n in range(120):
        (tmp_path / f"b/{n}.html").write_text(html(body=a(*(f"/{n}/{k}" for k in range(3_000)))))
    first = subprocess.Popen(
        [PROGRAM, "audit", "b", "--snapshot", "s.indrel"],
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    children = Path(f"/proc/{first.pid}/task/{first.pid}/children")
    while not children.read_text().split():
        time.sleep(0.02)
    time.sleep(1)
    first.send_signal(how)
    said = first.communicate(timeout=30)[1]  # it ends where no reader holds the other side any more
    assert first.returncode == (-9 if how is signal.SIGKILL else 130) and (
        how is signal.SIGKILL or "interrupted" in said
    )


@pytest.mark.parametrize(("listed", "severity"), [(False, "fix"), (True, "stop")])
def test_links_to_a_variant_where_nothing_answers_are_at_fault_themselves(
    indrel: Run, listed: bool, severity: str
) -> None:
    with DemoServer(site=served({})) as server:
        here, there = f"http://127.0.0.1:{server.port}", f"https://127.0.0.1:{server.port}"
        pages = {"/robots.txt": f"User-agent: *\nDisallow:\nSitemap: {here}/s.xml", "/": html(body=a(there + "/huts"))}
        pages["/s.xml"] = entries(loc(there + "/huts" if listed else here + "/"))
        server.site.pages.update(served({"http://127.0.0.1" + path: body for path, body in pages.items()}).pages)
        found = json.loads(indrel("audit", here + "/", "--json", "--rate=0", code=1).stdout)["findings"]
    (shut,) = [f for f in found if f["check"] == "robots-unreachable"]
    assert shut["severity"] == severity and shut["url"] == there + "/robots.txt"
    assert [e["kind"] for e in shut["evidence"]] == ["status"] + ["link"] * (not listed)


def test_a_folder_without_a_start_page_is_a_part_of_a_site(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "part").mkdir()
    (tmp_path / "part/b.html").write_text(html(title="Another hut"))
    told = indrel("audit", "part", "--base", HOST + "/", code=0).stdout
    assert "No page is known to be wanted" in told and "treated as a part of the site" in " ".join(told.split())
    for n in range(6):  # what canonicals name stands in a folder that is not here; what links name in one that is
        (tmp_path / f"part/huts/{n}").mkdir(parents=True)
        text = html(f'<link rel="canonical" href="{HOST}/stable/{n}/">', a("/", "/huts/gone/", "/far/", "/near"))
        (tmp_path / f"part/huts/{n}/index.html").write_text(text)
    found = json.loads(indrel("audit", "part", "--base", HOST + "/", "--json", code=1).stdout)
    gone = {f["url"] for f in found["findings"] if f["severity"] == "fix"}
    assert gone == {f"{HOST}/huts/gone/", f"{HOST}/near"} and found["verdict"]["lost"] == 0
    assert "6 of 6 URLs that canonicals and sitemaps name have no file here" in " ".join(found["notes"])


def test_a_folder_that_stands_below_a_path_and_whose_pages_name_index_files(indrel: Run, tmp_path: Path) -> None:
    """The base is inferred with its path, from canonicals and sitemap together; `x/index.html` answers beside `x/`, as on
    a server."""
    at = "https://www.sarnfell.example/docs/"
    names = ["", "hut1/", "hut2/", "hut3/"]
    pages = {
        f"{n}index.html": html(
            f'<link rel="canonical" href="{at}{n}">', a(*("../" * n.count("/") + m for m in names if m))
        )
        for n in names
    }
    locs = "".join(f"<url><loc>{at}{n}</loc></url>" for n in names)
    write_site(tmp_path / "b", {**pages, "sitemap.xml": f"<urlset {XMLNS}>{locs}</urlset>"})
    report = json.loads(indrel("audit", "b", "--json", code=0).stdout)
    assert (
        report["verdict"]["wanted"] == 4
        and report["verdict"]["lost"] == 0
        and report["counts"]["states"]["*"] == {"open": 4}
    )
    write_site(tmp_path / "c", {"index.html": html(f'<link rel="canonical" href="{HOST}/index.html">', a("index.html", "a/index.html")),
                                "a/index.html": html(f'<link rel="canonical" href="{HOST}/a/index.html">')})  # fmt: skip
    report = json.loads(indrel("audit", "c", "--json", code=0).stdout)
    assert report["counts"]["states"]["*"] == {"open": 2, "folded": 1} and report["verdict"]["lost"] == 0


def test_the_first_word_and_completion(demo: Path) -> None:
    told = subprocess.run([PROGRAM], capture_output=True, text=True)
    assert told.returncode == 0 and "Begin with one of these:" in told.stdout and len(told.stdout.splitlines()) < 12
    for words, found in (
        ("indrel list --state h", {"hidden"}), ("indrel list --section /h", {"/huts/*", "/hut-book/*"}),
        ("indrel checks listed-h", {"listed-hidden"}),
        ("indrel audit --crawler GPT", {"GPTBot"}), ("indrel robots m", {"match", "matrix"}), ("indrel list --kind tag", {"tag-archive"}),
    ):  # fmt: skip
        environment = {
            **os.environ,
            "_INDREL_COMPLETE": "complete_bash",
            "COMP_WORDS": words,
            "COMP_CWORD": str(len(words.split()) - 1),
        }
        done = subprocess.run([PROGRAM], cwd=demo, env=environment, capture_output=True, text=True)
        assert set(done.stdout.split()) == found, words


def test_every_answer_can_go_to_a_file(indrel: Run, demo: Path, tmp_path: Path) -> None:
    snapshot = next((demo / "indrel-runs").glob("*.indrel"))
    (tmp_path / "robots.txt").write_text("User-agent: *\nDisallow: /a\n")
    for words in (
        ["explain", "/huts/", "--from", snapshot], ["robots", "match", "robots.txt", "/a"], ["checks", "listed-hidden"],
        ["intent", "show", "/huts/", "--from", snapshot],
    ):  # fmt: skip
        told, plain = indrel(*words, "--json", "-q"), indrel(*words, "-q")
        for ending, there in ((".json", told), (".txt", plain)):
            done = indrel(*words, "-q", "-o", f"answer{ending}", code=there.returncode)
            assert done.stdout == "" and (tmp_path / f"answer{ending}").read_text() == there.stdout, words
    assert ".json .txt" in indrel("crawlers", "-o", "a.pdf", code=2).stderr
    assert "cannot be written" in indrel("crawlers", "-o", "no/folder/a.txt", code=2).stderr
