"""`indrel robots` as people run it: files, standard input, addresses, lists and snapshots."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from cases import BASE, HOST, a, html, robots, sitemap
from conftest import lines_of, served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response

Run = Callable[..., "subprocess.CompletedProcess[str]"]
FILE = """Disallow: /early/
User-agent: *
Dissallow: /x
Disallow: /news
Allow: /news/open
Disallow: /a b
Disallow: /tag/*
User-agent: bingbot
Disallow: /shop/
Sitemap: sitemap.xml
"""


def test_check_names_each_line(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "robots.txt").write_text(FILE)
    found = json.loads(indrel("robots", "check", "robots.txt", "--json", code=1).stdout)["findings"]
    assert {(f["check"], f["evidence"][0]["line"]) for f in found} == {
        ("robots-orphan-rule", 1), ("robots-unknown-field", 3), ("robots-bad-path", 6), ("robots-anchor-slip", 7),
        ("robots-group-replaces-all", 8), ("robots-foreign-sitemap", 10),
    }  # fmt: skip
    text = indrel("robots", "check", "-", input=FILE, code=1).stdout
    assert text.startswith("standard input: 4 fix and 2 ask") and "     3 | Dissallow: /x\n" in text
    assert indrel("robots", "check", "robots.txt", "--fail-on", "stop", code=0)
    (tmp_path / "good.txt").write_text("User-agent: *\nDisallow: /x/\n")
    assert "no findings" in indrel("robots", "check", "good.txt", code=0).stdout
    assert "cannot be read" in indrel("robots", "check", "none.txt", code=2).stderr


def test_match(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "robots.txt").write_text(FILE)
    (tmp_path / "urls").write_text(f"/newsletter\n{HOST}/news/open/x\nwww.sarnfell.example/shop/hat\n\n/robots.txt\n")
    rows = lines_of(indrel("robots", "match", "robots.txt", "--urls", "urls", "--json", code=0).stdout)
    assert len(rows) == 4 * 3 and set(rows[0]) == {"url", "crawler", "allowed", "rule", "line", "group"}
    seen = {
        (r["url"].partition("//")[2].partition("/")[2], r["crawler"]): (r["allowed"], r["rule"], r["line"])
        for r in rows
    }
    assert seen["newsletter", "googlebot"] == (False, "Disallow: /news", 4)
    assert seen["news/open/x", "*"] == (True, "Allow: /news/open", 5)
    assert seen["shop/hat", "bingbot"] == (False, "Disallow: /shop/", 9) and seen["newsletter", "bingbot"] == (
        True,
        None,
        None,
    )
    assert seen["robots.txt", "*"] == (True, None, None)
    table = indrel("robots", "match", "robots.txt", "/news", "/x", code=0).stdout.splitlines()
    assert table[0].split() == ["URL", "googlebot", "bingbot", "*"] and "allowed <" in table[1]
    one = indrel("robots", "match", "robots.txt", "/news/open/x", "--crawler", "*", code=0).stdout
    assert "allowed by `Allow: /news/open` (line 5)" in one and "overridden: `Disallow: /news` (line 4), shorter" in one
    assert "name URLs" in indrel("robots", "match", "robots.txt", code=2).stderr


def test_addresses_of_files(indrel: Run) -> None:
    pages = {"/robots.txt": Response(b"", 301, headers=(("Location", "/rules"),)), "/rules": robots("Disallow: /a")}
    with DemoServer(site=served(pages)) as server:
        connect = f"--connect=www.sarnfell.example=http://127.0.0.1:{server.port}"
        row = lines_of(indrel("robots", "match", HOST, "/a", "--crawler=*", "--json", connect, code=0).stdout)[0]
        assert (row["url"], row["allowed"], row["line"]) == (f"{HOST}/a", False, 2)
        found = json.loads(indrel("robots", "check", f"{HOST}/robots.txt", "--json", connect).stdout)["findings"]
        assert "robots-redirects" in {f["check"] for f in found}


@pytest.fixture
def snapshot(indrel: Run, tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    folder.mkdir()
    for name in ("shop", "news", "newsletter", "old"):
        (folder / f"{name}.html").write_text(html(title=name))
    (folder / "index.html").write_text(html(body=a("/shop.html", "/news.html", "/newsletter.html", "/old.html")))
    (folder / "robots.txt").write_text(robots("Disallow: /old", f"Sitemap: {HOST}/sitemap.xml"))
    (folder / "sitemap.xml").write_text(sitemap("/", "/newsletter.html"))
    indrel("audit", folder, "--snapshot", "s.indrel", "-q", code=0)
    return tmp_path / "s.indrel"


def test_impact(indrel: Run, snapshot: Path, tmp_path: Path) -> None:
    (tmp_path / "new.txt").write_text(robots("Disallow: /news"))
    told = json.loads(indrel("robots", "impact", "snapshot", "new.txt", "--from", snapshot, "--json", code=1).stdout)
    seen = [(c["url"].removeprefix(HOST), c["before"], c["after"], c["wanted"], c["line"]) for c in told["changes"]]
    assert seen == [
        ("/newsletter.html", "open", "barred", True, 2),
        ("/news.html", "open", "barred", False, 2),
        ("/old.html", "barred", "open", False, 2),
    ]
    assert {(line["change"], line["text"], line["turns"]) for line in told["lines"]} == {
        ("added", "Disallow: /news", 2), ("removed", "Disallow: /old", 1),
    }  # fmt: skip
    shown = " ".join(indrel("robots", "impact", "snapshot", "new.txt", "--from", snapshot).stdout.split())
    assert " UTC: 1 wanted page would be blocked" in shown
    (tmp_path / "ai.txt").write_text(
        robots(
            "Disallow: /old",
            "User-agent:",
            "Disallow: /x",
            "User-agent: GPTBot",
            "User-agent: PerplexityBot",
            "Disallow: /",
            "User-agent: CCBot",
            "Disallow:",
        )
    )
    told_ai = json.loads(indrel("robots", "impact", "snapshot", "ai.txt", "--from", snapshot, "--json", code=0).stdout)
    assert not told_ai["changes"] and told_ai["named"] == [
        {"crawler": "gptbot", "before": 0.8, "after": 0, "blocked": 4, "unblocked": 0},
        {"crawler": "perplexitybot", "before": 0.8, "after": 0, "blocked": 4, "unblocked": 0},
        {"crawler": "ccbot", "before": 0.8, "after": 1, "blocked": 0, "unblocked": 1},
    ]
    assert [(line["text"], line["turns"]) for line in told_ai["lines"]] == [("Disallow: /x", 0), ("Disallow: /", 4)]
    shown = indrel("robots", "impact", "snapshot", "ai.txt", "--from", snapshot).stdout
    assert "Nothing changes for the audited crawlers" in shown and "may fetch 0% of the host" in shown
    (tmp_path / "urls").write_text(f"{HOST}/news/a\n{HOST}/b\n")
    (tmp_path / "old.txt").write_text(robots())
    listed = json.loads(indrel("robots", "impact", "old.txt", "new.txt", "--urls", "urls", "--json", code=0).stdout)
    assert [(c["before"], c["after"]) for c in listed["changes"]] == [("unread", "barred")]
    assert "Nothing changes" in indrel("robots", "impact", "snapshot", "snapshot", "--from", snapshot, code=0).stdout
    assert json.loads(indrel("robots", "impact", snapshot, "new.txt", "--json", code=1).stdout) == told


def test_a_snapshot_in_place_of_a_file_is_not_read_as_text(indrel: Run, snapshot: Path) -> None:
    """It stands for its site's robots.txt and addresses; for a sitemap there is more than one that could be meant."""
    matrix = [
        indrel("robots", "matrix", *words, "--json", code=0).stdout for words in ((snapshot,), ("--from", snapshot))
    ]
    assert matrix[0] == matrix[1]
    assert "What the rules do on this site" in indrel("robots", "check", snapshot, code=0).stdout
    assert (
        f"{HOST}/old/x is blocked by `Disallow: /old` (line 2)" in indrel("robots", "match", snapshot, "/old/x").stdout
    )
    assert "is a snapshot, not a sitemap" in indrel("sitemap", "check", snapshot, code=2).stderr


def test_check_and_matrix_against_a_site(indrel: Run, snapshot: Path, tmp_path: Path) -> None:
    (tmp_path / "new.txt").write_text(robots("Disallow: /news", "Disallow: /OLD", "User-agent: gptbot", "Disallow: /"))
    told = json.loads(indrel("robots", "check", "new.txt", "--from", snapshot, "--json").stdout)
    assert {"robots-overreach", "robots-case-slip"} <= {f["check"] for f in told["findings"]}
    rule = next(r for r in told["rules"] if r["text"] == "Disallow: /news")
    assert (rule["decides"], rule["wanted"], rule["group"]) == (2, 1, "*")
    rows = lines_of(indrel("robots", "matrix", "new.txt", "--from", snapshot, "--json", code=0).stdout)
    by = {name: r for r in rows for name in r["crawlers"]}
    assert (by["GPTBot"]["barred"], by["GPTBot"]["differs"], by["*"]["barred"]) == (1.0, True, 0.4)
    assert by["AdsBot-Google"]["group"] is None and by["Googlebot-Image"]["group"] == "*"
    assert all(len(r["crawlers"]) == 1 for r in rows) and by["GPTBot"]["lines"] == [{"line": 5, "text": "Disallow: /"}]
    assert [by[n]["reads"] for n in ("GPTBot", "Bingbot", "AdsBot-Google")] == ["nothing", "part", "everything"]
    assert {by[n]["purpose"] for n in ("GPTBot", "OAI-SearchBot", "ChatGPT-User")} == {
        "ai-training",
        "ai-answers",
        "ai-user",
    }
    alone = indrel("robots", "matrix", "new.txt", "-o", "m.csv", "-o", "m.svg", code=0)
    assert (
        "written: m.svg" in alone.stderr
        and "GPTBot,ai-training,nothing,,gptbot,5,Disallow: /" in (tmp_path / "m.csv").read_text()
    )
    shown = indrel("robots", "matrix", "new.txt", code=0).stdout
    assert shown.startswith("new.txt: 4 of 57 crawlers ") and "nothing (GPTBot)" in shown
    assert indrel("robots", "matrix", "--from", snapshot, code=0).stdout.startswith("www.sarnfell.example")


def test_many_rules_and_addresses_stream(indrel: Run, tmp_path: Path) -> None:
    """500 KiB of rules against many addresses: bounded, and every address gets its answer."""
    rules = [f"Disallow: /section-{n}/p{'*' if n % 10 == 0 else ''}x" for n in range(20_000)]
    (tmp_path / "robots.txt").write_text("User-agent: *\n" + "\n".join(rules)[:499_000])
    (tmp_path / "urls").write_text("\n".join(f"/section-{n}/p-{n}-x" for n in range(5_000)))
    done = indrel("robots", "match", "robots.txt", "--urls", "urls", "--json", "--crawler=*", code=0)
    allowed = [json.loads(line)["allowed"] for line in done.stdout.splitlines()]
    assert len(allowed) == 5_000 and allowed.count(False) == 500


def test_explain_tells_how_robots_txt_was_had(indrel: Run) -> None:
    pages = {**BASE, "/robots.txt": Response(b"", 302, headers=(("Location", "/r"),)), "/r": Response(b"", 503)}
    with DemoServer(site=served(pages)) as server:
        connect = [
            f"--connect={host}=http://127.0.0.1:{server.port}" for host in ("www.sarnfell.example", "sarnfell.example")
        ]
        indrel("audit", HOST + "/", "--rate=0", "--snapshot=s.indrel", *connect, "-q", code=1)
    text = indrel("explain", "/", "--from", "s.indrel", code=0).stdout
    assert "robots.txt is unreachable after 1 redirect" in text and "503 Service Unavailable" in text


def test_where_the_letter_and_practice_part_both_are_told(indrel: Run, tmp_path: Path) -> None:
    """RFC 9309's table has `https://foo.bar` match its encoded form; engines compare as written, and so do decisions."""
    (tmp_path / "robots.txt").write_text(
        "User-agent: *\nDisallow: /foo/bar?baz=https://foo.bar\nDisallow: /a%2Fb\nDisallow: /plain\n"
    )
    paths = ["/foo/bar?baz=https%3A%2F%2Ffoo.bar", "/foo/bar?baz=https://foo.bar", "/a/b", "/plain", "/else"]
    rows = lines_of(indrel("robots", "match", "robots.txt", *paths, "--crawler=*", "--json", code=0).stdout)
    assert [r["allowed"] for r in rows] == [True, False, True, False, True]
    assert ["note" in r for r in rows] == [True, False, True, False, False]
    assert "it is barred by `Disallow: /a%2Fb` (line 3)" in rows[2]["note"]
    assert "read to the letter" in indrel("robots", "match", "robots.txt", "/a/b", code=0).stdout
    (tmp_path / "none.txt").write_text("User-agent: *\nDisallow:\n")
    (tmp_path / "urls").write_text("\n".join(f"{HOST}{p}" for p in paths))
    told = json.loads(
        indrel("robots", "impact", "none.txt", "robots.txt", "--urls", "urls", "--crawler=*", "--json").stdout
    )
    assert len(told["notes"]) == 2


def test_the_same_words_for_a_robots_txt_everywhere(indrel: Run, snapshot: Path, tmp_path: Path) -> None:
    """A file, a URL, a snapshot, the word for that of the audit, standard input."""
    runs = tmp_path / "indrel-runs"
    runs.mkdir()
    (runs / "www.sarnfell.example-20261101T080000Z.indrel").write_bytes(snapshot.read_bytes())
    said = {}
    for words in (("snapshot",), (snapshot,), ("--from", snapshot), ("snapshot", "--from", snapshot)):
        said[words] = [
            indrel("robots", "match", *words, HOST + "/news/x", "--json", code=0).stdout if words != ("--from", snapshot)
            else indrel("robots", "match", *words, "/news/x", "--json", code=0).stdout,
            indrel("robots", "check", *words, "--json", "--fail-on", "never", code=0).stdout,
            indrel("robots", "matrix", *words, "--json", code=0).stdout,
        ]  # fmt: skip
    assert len({repr(one) for one in said.values()}) == 1, said
    given = indrel("robots", "matrix", "-", input="User-agent: *\nDisallow: /\n", code=0).stdout
    assert given.startswith("standard input: ")
    assert "name a robots.txt" in indrel("robots", "check", code=2).stderr


@pytest.mark.parametrize(
    ("rules", "reads"),
    [
        (("Allow: /", "Disallow: /"), "everything"),  # of rules as long as each other the one that allows wins
        (("Disallow: /",), "nothing"),
        (("Disallow: /*",), "nothing"),
        (("Disallow: /", "Allow: /$"), "part"),
        (("Disallow: /x", "Allow: /x"), "everything"),
        (("Disallow: /x",), "part"),
    ],
)
def test_the_matrix_decides_as_match_does(rules: tuple[str, ...], reads: str, indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "r.txt").write_text("\n".join(("User-agent: *", *rules)) + "\n")
    rows = lines_of(indrel("robots", "matrix", "r.txt", "--json", code=0).stdout)
    assert {row["reads"] for row in rows if row["group"] == "*"} == {reads}
    told = lines_of(indrel("robots", "match", "r.txt", HOST + "/x", "--json", code=0).stdout)
    assert {row["allowed"] for row in told} == {reads == "everything"}
