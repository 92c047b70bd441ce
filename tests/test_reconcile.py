"""Outside lists and logs held against a snapshot; sitemaps checked on their own."""

from __future__ import annotations

import gzip
import json
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from cases import BASE, HOST, NOINDEX, XMLNS, a, canonical, html, moved, robots, sitemap
from conftest import AuditSite, served
from indrel.ask.reconcile import lists, logs
from indrel.ask.reconcile.tables import learn
from indrel.decide.site import Site
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from test_program import Run, write_site

ROWS = [
    ("Clicks", "Page found", "Coverage", "Seen"),
    ("9", f"{HOST}/open", "Listed", "2026-11-01"),
    ("1", "www.sarnfell.example/hidden/", "Listed, with warnings", "2026-06-02"),
    ("1", "http://www.sarnfell.example/moved?", "Listed", "2026-06-02"),
    ("0", "/barred/x", "Listed", "2026-06-03"),
    ("0", f"{HOST}/lone", "Discovered, not listed", ""),
    ("0", "sarnfell.example/caf%c3%a9", "Listed", "2026-07-01"),
    ("0", f"{HOST}/old/1", "Listed", "2026-07-01"),
    ("0", "nothing to see", "", ""),
    ("0", "https://outfitter.example/a", "Listed", ""),
]


@pytest.fixture
def site(audit_site: AuditSite) -> Site:
    pages = {
        **BASE,
        "/": html(canonical("/"), a("/open", "/hidden", "/moved", "/barred/x", "/café")),
        "/robots.txt": robots("Disallow: /barred/", f"Sitemap: {HOST}/sitemap.xml"),
        "/sitemap.xml": sitemap("/", "/open", "/lone"),
        "/open": html(canonical("/open"), a("/old/")),
        "/lone": html(canonical("/lone"), title="Lone"),
        "/hidden": html(NOINDEX),
        "/moved": moved("/open"),
        "/caf%C3%A9": html(title="Café"),
    }
    return audit_site(pages)[0]


def table(path: Path, form: str) -> Path:
    file = path / f"export.{form}"
    if form == "xlsx":
        book = openpyxl.Workbook()
        for row in ROWS:
            book.active.append(row)
        book.save(file)
    elif form == "csv":
        file.write_text("\n".join(",".join(f'"{c}"' for c in row) for row in ROWS))
    elif form == "tsv":
        file.write_bytes("\n".join("\t".join(row) for row in ROWS).encode("utf-16"))
    else:
        file.write_bytes(gzip.compress("\n".join(";".join(row) for row in ROWS).encode()))
    return file


@pytest.mark.parametrize("form", ["csv", "tsv", "xlsx", "csv.gz"])
def test_every_form_of_table_tells_the_same(form: str, site: Site, tmp_path: Path) -> None:
    found = lists.reconcile(site, table(tmp_path, form))
    assert found.columns and (found.columns.address, found.columns.status, found.columns.when) == (1, 2, 3)
    assert (found.rows, found.matched, found.unusable) == (9, 6, ["nothing to see"])
    told = {(o.url.removeprefix(HOST), o.state, o.since) for o in found.listed_but}
    assert told == {
        ("/hidden", "hidden", "2026-06-02"), ("/moved", "folded", "2026-06-02"), ("/barred/x", "barred", "2026-06-03"),
    }  # fmt: skip
    barred = next(o for o in found.listed_but if o.state == "barred")
    assert barred.why == "`Disallow: /barred/` blocks it" and barred.evidence[0].line == 2
    missed = {m.url.removeprefix(HOST): (m.because, m.reason) for m in found.wanted_not_listed}
    assert missed == {
        "/": ("nothing on the site forbids it", None),
        "/lone": ("no page that was read links to it", "Discovered, not listed"),
    }
    assert found.unknown == {"/old/*": [f"{HOST}/old/1"]} or found.unknown == {"/*": [f"{HOST}/old/1"]}
    assert found.elsewhere == ["https://outfitter.example/a"]


def test_tables_that_cannot_be_used(indrel: Run, site: Site, tmp_path: Path) -> None:
    bad = {
        "empty.csv": b"", "words.csv": b"a,b\n1,2\n", "broken.xlsx": b"PK\x03\x04nothing", "old.xls": b"\xd0\xcf\x11\xe0\xa1\xb1",
        "cut.log.gz": gzip.compress(b"x" * 200_000)[:100],
    }  # fmt: skip
    for name, octets in bad.items():
        (tmp_path / name).write_bytes(octets)
        done = indrel("reconcile", site.snapshot.path, name, code=2)
        assert done.stderr.startswith(f"indrel: {name}") and done.stderr.count("\n") == 1, done.stderr
    assert (
        "`Page found`"
        in indrel("reconcile", site.snapshot.path, table(tmp_path, "csv"), "--column", "Page foun", code=2).stderr
    )
    assert learn(table(tmp_path, "csv"), "2").address == 1


def log_line(host: str, path: str, status: int, agent: str) -> str:
    return f'{host} - - [23/Nov/2026:08:00:00 +0000] "GET {path} HTTP/1.1" {status} 9 "-" "{agent}"\n'


LOG = [
    *[log_line("crawl-1.googlebot.com", "/open", 200, "Mozilla/5.0 (compatible; Googlebot/2.1)")] * 3,
    log_line("evil.example", "/barred/x", 200, "googlebot"),
    log_line("1.2.3.4", "/barred/x", 200, "Mozilla/5.0 (compatible; bingbot/2.0)"),
    log_line("1.2.3.4", "/barred/x", 200, "Mozilla/5.0 (compatible; GPTBot/1.2)"),
    log_line("1.2.3.4", "/new?x=1", 200, "bingbot"),
    log_line("1.2.3.4", "/open", 200, "Mozilla/5.0 (X11)"),
    log_line("1.2.3.4", "http://elsewhere.test/open", 200, "bingbot"),
    log_line("1.2.3.4", "/open", 200, 'a \\"quoted\\" name'),
    "not a line\n",
]


@pytest.mark.parametrize("packed", [False, True])
def test_logs(packed: bool, site: Site, indrel: Run, tmp_path: Path) -> None:
    file = tmp_path / "access.log"
    text = "".join(LOG).encode()
    file.write_bytes(gzip.compress(text) if packed else text)
    found = logs.read(site, [file])
    assert (found.lines, found.unreadable, found.crawlers) == (11, 1, {"googlebot": 3, "bingbot": 2, "gptbot": 1})
    asked = {(f"{HOST}/barred/x", "bingbot"), (f"{HOST}/barred/x", "gptbot")}  # impostors are no visits
    assert {(r["url"], r["crawler"]) for r in found.barred} == asked and found.barred_urls == 1  # by two crawlers
    assert (
        found.never == [f"{HOST}/", f"{HOST}/lone"]
        and found.never_fetched == 2
        and found.unknown == {"/*": [f"{HOST}/new?x=1"]}
    )
    assert found.impostors == [{"crawler": "googlebot", "host": "evil.example", "requests": 1}]
    top: dict[str, Any] = found.fetched[0]
    assert (top["section"], top["state"], top["requests"], top["addresses"]) == ("/*", "open", 3, 1)
    done = indrel("reconcile", site.snapshot.path, file, "--unknown", "more.txt", "--json", code=0)
    assert json.loads(done.stdout)["crawlers"] == found.crawlers
    assert (tmp_path / "more.txt").read_text() == f"{HOST}/new?x=1\n"
    told = " ".join(indrel("reconcile", site.snapshot.path, file, code=0).stdout.split())
    assert "; 1 blocked URL requested, 2 wanted pages never fetched" in told
    parts = [tmp_path / "a.log", tmp_path / "b.log.gz"]  # rotations are one log
    parts[0].write_text("".join(LOG[:5]))
    parts[1].write_bytes(gzip.compress("".join(LOG[5:]).encode()))
    assert logs.read(site, parts).as_json() == found.as_json() == logs.read(site, parts[::-1]).as_json()
    assert "2 logs: 6 requests" in indrel("reconcile", site.snapshot.path, *parts, code=0).stdout
    (tmp_path / "c.log").write_text("".join(LOG[3:9]))
    for twice in ([*parts, "c.log"], [parts[0], parts[0]]):
        assert (
            "have the same requests: give each rotation of a log once"
            in indrel("reconcile", *twice, "--from", site.snapshot.path, code=2).stderr
        )
    (tmp_path / "t.csv").write_text(f"URL\n{HOST}/open\n")
    assert (
        "one table, or several logs"
        in indrel("reconcile", parts[0], "t.csv", "--from", site.snapshot.path, code=2).stderr
    )


def test_sitemap_check(indrel: Run, site: Site, tmp_path: Path) -> None:
    """An index with the files beside it; faults with line and column; entries judged by a snapshot."""
    (tmp_path / "maps").mkdir()
    index = "".join(
        f"<sitemap><loc>{HOST}/{p}</loc></sitemap>\n" for p in ("maps/a.xml", "maps/b.txt.gz", "maps/none.xml")
    )
    (tmp_path / "index.xml").write_text(f"<sitemapindex {XMLNS}>\n{index}</sitemapindex>")
    (tmp_path / "maps/a.xml").write_text(
        f'<urlset {XMLNS} xmlns:i="urn:images">\n<url><loc>{HOST}/hidden</loc><i:image><i:loc>x</i:loc></i:image></url>\n'
        f"<url><loc>/relative</loc><lastmod>yesterday</lastmod></url></urlset>"
    )
    (tmp_path / "maps/b.txt.gz").write_bytes(gzip.compress(f"{HOST}/open\n{HOST}/new\n".encode()))
    doc = json.loads(indrel("sitemap", "check", "index.xml", "--json", code=1).stdout)
    assert [(f["check"], f["url"]) for f in doc["findings"]] == [
        ("sitemap-bad-entry", "/relative"), ("sitemap-bad-date", "maps/a.xml"),
    ] or {f["check"] for f in doc["findings"]} == {"sitemap-bad-entry", "sitemap-bad-date"}  # fmt: skip
    bad = next(f for f in doc["findings"] if f["check"] == "sitemap-bad-entry")
    assert bad["message"].startswith("The URL at line 3, column 6") and bad["evidence"][0]["line"] == 3
    assert [(f["where"], f["entries"]) for f in doc["files"]] == [
        ("index.xml", 3),
        ("maps/a.xml", 2),
        ("maps/b.txt.gz", 2),
    ]
    assert doc["unread"] == [f"{HOST}/maps/none.xml"]
    judged = json.loads(indrel("sitemap", "check", "index.xml", "--from", site.snapshot.path, "--json", code=1).stdout)
    assert judged["states"] == {"hidden": 1, "open": 1, "unknown": 1}
    hidden = next(f for f in judged["findings"] if f["check"] == "listed-hidden")
    assert hidden["url"] == f"{HOST}/hidden" and hidden["evidence"][0]["where"] == "maps/a.xml"
    told = indrel("sitemap", "check", "index.xml", "--from", site.snapshot.path, code=1).stdout
    assert told.startswith("index.xml against www.sarnfell.example, 20")
    assert "2 fix;" in indrel("sitemap", "check", "maps/a.xml").stdout
    assert indrel("sitemap", "check", "nothing.xml", code=2).stderr.startswith("indrel: nothing.xml cannot be read")


@pytest.mark.parametrize(
    ("files", "foreign"),
    [
        ({}, ["https://api.sarnfell.example/a", "https://book.sarnfell.example/b"]),
        ({"https://api.sarnfell.example/robots.txt": f"Sitemap: {HOST}/maps/all.xml\n"}, ["https://book.sarnfell.example/b"]),
        ({f"{HOST}/robots.txt": f"Sitemap: {HOST}/maps/all.xml\n"}, ["https://api.sarnfell.example/a", "https://book.sarnfell.example/b"]),
    ],
)  # fmt: skip
def test_who_vouches_for_a_sitemap(files: dict[str, str], foreign: list[str], indrel: Run) -> None:
    """An index on the entries' own host vouches for what it lists; robots.txt of another host for what it names."""
    index = f"<sitemapindex {XMLNS}><sitemap><loc>{HOST}/maps/all.xml</loc></sitemap></sitemapindex>"
    urls = (f"{HOST}/c", "https://api.sarnfell.example/a", "https://book.sarnfell.example/b")
    listed = "".join(f"<url><loc>{u}</loc></url>" for u in urls)
    pages: dict[str, Any] = {f"{HOST}/index.xml": index, f"{HOST}/maps/all.xml": f"<urlset {XMLNS}>{listed}</urlset>"}
    empty = {"https://api.sarnfell.example/robots.txt": "", "https://book.sarnfell.example/robots.txt": ""}
    with DemoServer(site=served({**pages, **empty, **files})) as server:
        options = [o for c in server.connect for o in ("--connect", c)]
        done = indrel("sitemap", "check", f"{HOST}/index.xml", *options, "--json")
    assert [f["url"] for f in json.loads(done.stdout)["findings"] if f["check"] == "sitemap-foreign"] == foreign


@pytest.mark.parametrize("base", ["https://origin.sarnfell.example/", "https://o'hara.example/"])
def test_a_log_finds_sections_whatever_hosts_and_folders_are_called(base: str, tmp_path: Path, indrel: Run) -> None:
    for name in ("index", "origin/a", "origin/b"):
        file = tmp_path / "build" / f"{name}.html"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(html(a("/origin/a.html", "/origin/b.html")))
    line = '66.0.0.1 - - [01/Nov/2026:00:00:00 +0000] "GET {} HTTP/1.1" 200 5 "-" "Googlebot/2.1"\n'
    (tmp_path / "access.log").write_text("".join(map(line.format, ("/origin/a.html", "/origin/x.html", "/"))))
    indrel("audit", "build", "--base", base, "--fail-on", "never", "--snapshot", "s.indrel", code=0)
    found = json.loads(indrel("reconcile", "s.indrel", "access.log", "--json", code=0).stdout)
    sections = {(row["section"], row["state"], row["requests"]) for row in found["fetched"]}
    assert sections == {("/origin/*", "open", 1), ("/origin/*", "unknown", 1), ("/", "open", 1)}


@pytest.mark.parametrize(
    ("name", "text", "listed"),
    [
        ("a.csv", "URL,Status\n/open,Not indexed\n/lone,Indexed\n", {"/lone"}),
        ("a.csv", "Export of 2026-11-20\n\nURL;Zustand\n/open;Nicht indexiert\n/lone;Indexiert\n", {"/lone"}),
        ("a.csv", "URL\tÉtat\n/open\tNon indexée\n/lone\tIndexée\n", {"/lone"}),
        ("a.csv", "URL,Reason\n/open,Crawled - currently not indexed\n/lone,Duplicate without user-selected canonical\n", set()),
        ("a.csv", "\ufeffURL,Indexed\n/open,no\n/lone,yes\n", {"/lone"}),
        ("not-indexed-pages.csv", "URL,Last crawled\n/open,2026-11-01\n/lone,2026-11-02\n", set()),
        ("a.csv", "Pages not indexed\nURL,Last crawled\n/open,01.11.2026\n/lone,02.11.2026\n", set()),
        ("pages.csv", "URL,Clicks\n/open,0\n/lone,1\n", {"/open", "/lone"}),
    ],
)  # fmt: skip
def test_what_is_not_listed_is_never_taken_for_listed(
    name: str, text: str, listed: set[str], site: Site, tmp_path: Path
) -> None:
    file = tmp_path / name
    file.write_text(text.replace("/open", HOST + "/open").replace("/lone", HOST + "/lone"))
    found = lists.reconcile(site, file)
    assert {r.url.removeprefix(HOST) for r in found.table if r.listed} == listed and len(found.table) == 2
    if not listed:  # what such a file lacks is not "not listed there"
        assert {m.url.removeprefix(HOST) for m in found.wanted_not_listed} <= {"/open", "/lone"}


def test_a_host_that_is_closed_is_to_be_opened_first(audit_site: AuditSite, tmp_path: Path) -> None:
    """Where the file itself fails, no rule is to be taken out and no noindex to be read."""
    site, _ = audit_site({**BASE, "/robots.txt": Response(b"", 503)})
    (tmp_path / "a.csv").write_text(f"URL,Indexed\n{HOST}/,yes\n")
    found = lists.reconcile(site, tmp_path / "a.csv")
    assert [r.do.partition(" (")[0] for r in found.table] == ["fix: robots.txt of its host must respond"]


def test_words_that_are_not_understood_are_asked_for(site: Site, indrel: Run, tmp_path: Path) -> None:
    file = tmp_path / "odd.csv"
    file.write_text(f"URL,Coverage state\n{HOST}/open,Grün\n{HOST}/hidden,Grün\n{HOST}/lone,Rot\n")
    done = indrel("reconcile", site.snapshot.path, file, code=2)
    assert "`Coverage state` means is not understood (`Grün`, `Rot`)" in done.stderr and "--listed VALUE" in done.stderr
    file.write_text(
        f"URL,State\n{HOST}/open,Alternate page with proper canonical\n{HOST}/hidden,Crawl anomaly\n{HOST}/lone,Rot\n"
    )
    assert "`State` means is not understood (`Rot`)" in indrel("reconcile", site.snapshot.path, file, code=2).stderr
    file.write_text(f"URL,Coverage state\n{HOST}/open,Grün\n{HOST}/hidden,Grün\n{HOST}/lone,Rot\n")
    told = indrel(
        "reconcile", site.snapshot.path, file, "--status-column", "Coverage state", "--listed", "Grün", "--json", code=1
    )
    rows = {r["url"].removeprefix(HOST): r for r in json.loads(told.stdout)["table"]}
    assert {u for u, r in rows.items() if r["listed"]} == {"/open", "/hidden"}
    assert rows["/hidden"]["by"]["text"] == NOINDEX and rows["/hidden"]["do"].startswith("wait")
    do = [r["do"] for r in json.loads(told.stdout)["table"]]
    assert [text.split(" ")[0] for text in do] == [
        "request",
        "wait:",
        "nothing:",
    ] and "no page that was read links to it" in do[0]
    indrel(
        "reconcile",
        site.snapshot.path,
        file,
        "--listed",
        "Grün",
        "--status-column",
        "2",
        "-o",
        "x.csv",
        "-o",
        "x.xlsx",
        code=1,
    )
    assert (tmp_path / "x.csv").read_text().splitlines()[0].startswith("url,engine status,indexed,state here")
    assert "a snapshot, not a table" in indrel("reconcile", site.snapshot.path, site.snapshot.path, code=2).stderr
    (tmp_path / "x.png").write_bytes(b"\x89PNG\r\n\x1a\n\0\0\0")
    assert "not a table" in indrel("reconcile", site.snapshot.path, "x.png", code=2).stderr


def test_the_words_of_any_language_are_asked_for_and_reasons_are_kept(site: Site, indrel: Run, tmp_path: Path) -> None:
    """Few words that come again may say "not indexed" in a language that is not known: nothing is taken for its opposite."""
    file = tmp_path / "odd.csv"
    for name, words in (("Läge", ("Inte indexerad", "Indexerad")), ("Durum", ("Dizine eklenmedi", "Dizinde")),
                        ("Stav", ("Neindexováno", "Indexováno")), ("状態", ("未登録", "登録済み"))):  # fmt: skip
        file.write_text(
            f"URL,{name}\n{HOST}/open,{words[0]}\n{HOST}/hidden,{words[0]}\n{HOST}/lone,{words[1]}\n{HOST}/,{words[1]}\n"
        )
        done = indrel("reconcile", site.snapshot.path, file, code=2)
        assert f"what `{name}` means is not understood" in done.stderr and "--not-indexed" in done.stderr
        told = json.loads(indrel("reconcile", site.snapshot.path, file, "--not-indexed", "--json", code=0).stdout)
        assert {row["listed"] for row in told["table"]} == {False}
    file.write_text(
        f"URL,Indexed,Reason\n{HOST}/open,no,Page with redirect\n{HOST}/lone,no,Crawled later\n{HOST}/hidden,yes,\n"
    )
    told = json.loads(indrel("reconcile", site.snapshot.path, file, "-o", "r.csv", "--json", code=1).stdout)
    assert {row["url"].removeprefix(HOST): row["reason"] for row in told["table"]} == {
        "/open": "Page with redirect", "/lone": "Crawled later", "/hidden": None,
    }  # fmt: skip
    assert told["reasons"] == {"Crawled later": {"open": 1}, "Page with redirect": {"open": 1}, "yes": {"hidden": 1}}
    assert "Page with redirect" in (tmp_path / "r.csv").read_text()


def test_a_list_of_urls_is_judged_without_assuming_that_it_is_indexed(site: Site, indrel: Run, tmp_path: Path) -> None:
    """What robots.txt or the URL alone tells of an unknown one is told; the first line counts the rows."""
    file = tmp_path / "urls.csv"
    urls = ("/open", "/hidden", "/barred/new", "/login", "/nowhere")
    file.write_text("URL\n" + "".join(f"{HOST}{url}\n" for url in urls))
    done = indrel("reconcile", site.snapshot.path, file, "--json", code=1)
    rows = {row["url"].removeprefix(HOST): row for row in json.loads(done.stdout)["table"]}
    assert {row["listed"] for row in rows.values()} == {None} and {row["says"] for row in rows.values()} == {
        "not known"
    }
    assert {url: row["state"] for url, row in rows.items()} == {
        "/open": "open", "/hidden": "hidden", "/barred/new": "barred", "/login": "unknown", "/nowhere": "unknown",
    }  # fmt: skip
    assert rows["/barred/new"]["by"]["text"] == "Disallow: /barred/" and rows["/login"]["do"].startswith("nothing")
    first = " ".join(indrel("reconcile", site.snapshot.path, file, code=1).stdout.split())
    assert (
        "2 of these URLs cannot be indexed here (1 barred, 1 hidden), 0 of them wanted; 2 unknown to the audit" in first
    ), first
    (tmp_path / "indrel.toml").write_text('[[want]]\nmatch = "/open"\nwant = "hide"\n')
    file.write_text(f"URL,Indexed\n{HOST}/open,no\n{HOST}/lone,no\n")
    rows = {
        r["url"]: r for r in json.loads(indrel("reconcile", site.snapshot.path, file, "--json", code=0).stdout)["table"]
    }
    assert rows[HOST + "/open"]["do"].startswith("hide it: it is open"), "an open unwanted page is not nothing to do"
    assert "; 1 wanted page not indexed there" in " ".join(
        indrel("reconcile", site.snapshot.path, file, code=0).stdout.split()
    )


def test_a_workbook_is_read_where_a_person_reads_it(site: Site, indrel: Run, tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    shown, hidden = book.active, book.create_sheet("cache")
    shown.title, hidden.sheet_state = "Pages", "hidden"
    shown.append(["URL", "Indexed"])
    shown.append([HOST + "/open", "yes"])
    for number in range(5):
        hidden.append([f"{HOST}/old/{number}", "yes"])
    book.save(tmp_path / "t.xlsx")
    done = indrel("reconcile", site.snapshot.path, "t.xlsx", code=0).stdout
    assert "1 row, 1 matched" in done and "sheet `Pages`" in done


@pytest.mark.parametrize(
    "line",
    [
        '{{"request":{{"remote_ip":"1.2.3.4","method":"GET","host":"www.sarnfell.example","uri":"{path}","headers":{{"User-Agent":["{agent}"]}}}},"status":200}}',
        '{{"ClientHost":"1.2.3.4","RequestPath":"{path}","DownstreamStatus":200,"request_User-Agent":"{agent}"}}',
        '{{"remote_addr":"1.2.3.4","request":"GET {path} HTTP/1.1","status":"200","http_user_agent":"{agent}"}}',
    ],
)
def test_a_log_of_json_lines_and_the_groups_of_its_crawlers(
    line: str, audit_site: AuditSite, indrel: Run, tmp_path: Path
) -> None:
    """The crawler in the log decides, not the audited ones: a group that names it blocks what others may fetch."""
    site, _ = audit_site({**BASE, "/": html(body=a("/news/1")), "/news/1": html(),
                          "/robots.txt": "User-agent: *\nDisallow:\n\nUser-agent: GPTBot\nDisallow: /news/\n"})  # fmt: skip
    hits = (("/news/1", "GPTBot/1.2"), ("/news/1", "GPTBot/1.2"), ("/news/1", "Googlebot/2.1"), ("/", "GPTBot/1.2"))
    (tmp_path / "a.log").write_text("".join(line.format(path=path, agent=agent) + "\n" for path, agent in hits))
    told = json.loads(indrel("reconcile", site.snapshot.path, "a.log", "--json", code=0).stdout)
    assert told["crawlers"] == {"gptbot": 3, "googlebot": 1} and told["unreadable"] == 0
    assert (
        told["barred"] == [{"url": HOST + "/news/1", "crawler": "gptbot", "requests": 2}] and told["barred_urls"] == 1
    )
    (tmp_path / "b.log").write_text('{"level": "info", "msg": "started"}\n' * 3)
    assert "a log in a format that cannot be read" in indrel("reconcile", site.snapshot.path, "b.log", code=2).stderr


def test_a_table_of_another_site_is_compared_with_that_site_or_not_at_all(indrel: Run, tmp_path: Path) -> None:
    """The newest audit need not be of the table's site; what is on other sites is not unknown."""
    for name, base in (("a", HOST), ("b", "https://staging.sarnfell.example")):
        write_site(tmp_path / name, {"index.html": html(body=a("/x.html")), "x.html": html(NOINDEX)})
        indrel("audit", name, "--base", base + "/", code=None)
    rows = f"URL,Reason\n{HOST}/x.html,Excluded\n{HOST}/never,Excluded\nhttps://else.example/,Excluded\n"
    (tmp_path / "t.csv").write_text(rows)
    (tmp_path / "else.csv").write_text("URL,Reason\nhttps://else.example/,Excluded\n")
    told = json.loads(indrel("reconcile", "t.csv", "--json", code=0).stdout)
    assert told["matched"] == 1 and told["reasons"] == {"Excluded": {"hidden": 1, "other site": 1, "unknown": 1}}
    staged = max((tmp_path / "indrel-runs").glob("staging*"))
    for words in (["t.csv", "--from", staged], ["else.csv"]):
        assert "nothing was compared: no URL of " in indrel("reconcile", *words, code=3).stderr
