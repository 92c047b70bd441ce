"""Two audits held against each other, and an audit that fails only on what is new."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, XMLNS, a, canonical, html, moved, robots, sitemap
from conftest import AuditSite, served
from indrel.ask.compare import compare
from indrel.ask.sides import said_sql
from indrel.base.errors import AuditCutShort
from indrel.core.mapping import AddressMap
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from test_program import Run, write_site

LINKS = [f"/huts/{n}" for n in range(6)] + ["/tag/a", "/old"]
BEFORE = {
    **BASE,
    "/": html(canonical("/"), a(*LINKS)),
    "/sitemap.xml": sitemap("/", *LINKS[:6], "/old"),
    **{p: html(canonical(p), title=p) for p in LINKS},
}
AFTER = {
    **BEFORE,
    "/": html(canonical("/"), a(*LINKS[:7], "/new")),
    "/robots.txt": robots("Disallow: /huts/", f"Sitemap: {HOST}/sitemap.xml"),
    "/sitemap.xml": sitemap("/", *LINKS[:6], "/new"),
    "/tag/a": html(NOINDEX),
    "/new": html(canonical("/new")),
}


def test_what_changed_and_what_explains_it(audit_site: AuditSite) -> None:
    before, after = audit_site(BEFORE)[0], audit_site(AFTER)[0]
    found = compare(before, after)
    assert (found.common, found.worse, len(found.states)) == (8, 6, 21)
    assert {(c.url, c.before, c.after) for c in found.states if c.crawler == "*"} == {
        *((HOST + p, "open", "barred") for p in LINKS[:6]), (HOST + "/tag/a", "open", "hidden"),
    }  # fmt: skip
    worst = found.edits[0]
    assert (worst.before, worst.after, worst.section, len(worst.urls), worst.wanted) == (
        "open",
        "barred",
        "/huts/*",
        6,
        6,
    )
    assert worst.evidence and (worst.evidence.line, worst.evidence.text) == (2, "Disallow: /huts/")
    assert len(worst.crawlers) == 3 and len(found.edits) == 2
    assert {"url": HOST + "/tag/a", "what": "robots", "before": "none", "after": "noindex"} in found.directives
    assert [(r["change"], r["text"]) for r in found.rules] == [("new", "Disallow: /huts/")]
    assert (found.sitemap_new, found.sitemap_gone) == ([HOST + "/new"], [HOST + "/old"])
    assert (found.addresses_new, found.addresses_gone) == ([HOST + "/new"], [HOST + "/old"])
    assert {f.check for f in found.findings_new} >= {"listed-barred"}
    back = compare(after, before)
    assert back.worse == 0 and [f.check for f in back.findings_gone].count("listed-barred") == 6
    freed = next(e for e in back.edits if e.before == "barred")
    assert freed.was and freed.was.text == "Disallow: /huts/" and len(freed.urls) == 6
    same = compare(after, after)
    assert not (same.states or same.directives or same.findings_new or same.findings_gone) and same.findings_still


def test_compare_and_baseline_from_the_command_line(indrel: Run, tmp_path: Path) -> None:
    good = {"index.html": html(canonical("/"), a("/a.html", "/gone")), "a.html": html(canonical("/a.html")),
            "robots.txt": robots(), "sitemap.xml": sitemap("/", "/a.html")}  # fmt: skip
    write_site(tmp_path / "old", good)
    bad = {**good, "a.html": html(canonical("/a.html") + NOINDEX)}
    write_site(
        tmp_path / "new",
        {n: t.replace("www.sarnfell", "staging.sarnfell") if isinstance(t, str) else t for n, t in bad.items()},
    )
    write_site(tmp_path / "bad", bad)
    indrel("audit", "old", "--snapshot", "1.indrel", code=1)
    indrel("audit", "new", "--snapshot", "2.indrel", code=1)
    indrel("audit", "bad", "--snapshot", "3.indrel", code=1)
    told = indrel("compare", "1.indrel", "3.indrel", code=1).stdout
    assert ": 1 wanted page got worse. URLs: 1 of " in " ".join(told.split()) and "a.html:2" in told
    assert ": nothing wanted got worse" in " ".join(indrel("compare", "3.indrel", "1.indrel", code=0).stdout.split())
    write_site(tmp_path / "plain", {"index.html": html(body=a("/a.html")), "a.html": html()})
    indrel("audit", "plain", "--snapshot", "4.indrel", "--base", HOST + "/")
    write_site(tmp_path / "plain", {"a.html": html(NOINDEX)})
    indrel("audit", "plain", "--snapshot", "5.indrel", "--base", HOST + "/")
    told = indrel("compare", "4.indrel", "5.indrel", code=0).stdout
    assert ": 1 URL is no longer open, none of them known to be wanted. " in " ".join(told.split()), told
    mapped = json.loads(
        indrel(
            "compare", "2.indrel", "1.indrel", "--map", "staging.sarnfell.example=www.sarnfell.example", "--json"
        ).stdout
    )
    assert {(c["url"], c["before"], c["after"]) for c in mapped["states"]} == {(f"{HOST}/a.html", "hidden", "open")}
    assert mapped["directives"] == [{"url": f"{HOST}/a.html", "what": "robots", "before": "noindex", "after": "none"}]
    assert {f["check"] for f in mapped["findings_gone"]} == {"listed-hidden"} and not mapped["findings_new"]
    assert "no URL is in both audits" in indrel("compare", "2.indrel", "1.indrel", "--json", code=3).stderr
    assert "write HOST=HOST" in indrel("compare", "1.indrel", "2.indrel", "--map", "x", code=2).stderr
    same = indrel("audit", "1.indrel", "--baseline", "1.indrel", code=0).stdout
    assert re.match(
        r"\S+ \(old\), [\d-]+ [\d:]+ UTC: Since 1.indrel: no new finding. Unchanged: \d+ findings. Overall: ",
        " ".join(same.split()),
    )
    new = indrel(
        "audit", "3.indrel", "--baseline", "1.indrel", "-o", "x.sarif", "-o", "x.md", "-o", "x.html", code=1
    ).stdout
    assert (
        "Since 1.indrel: 1 wanted page lost, 1 new finding (1 fix or stop)." in " ".join(new.split())
        and "listed-hidden" in new
        and "link-to-gone" not in new
    ), new
    assert "link-to-gone" in indrel("audit", "3.indrel", "--baseline", "1.indrel", "--verbose", code=1).stdout
    assert "link-to-gone" not in (tmp_path / "x.md").read_text() and ">new<" in (tmp_path / "x.html").read_text()
    results = json.loads((tmp_path / "x.sarif").read_text())["runs"][0]["results"]
    assert {(r["ruleId"], r["baselineState"]) for r in results} >= {
        ("listed-hidden", "new"),
        ("link-to-gone", "unchanged"),
    }
    done = indrel("audit", "3.indrel", "--baseline", "1.indrel", "--json", code=1)
    assert [f["check"] for f in json.loads(done.stdout)["findings"] if f.get("new")] == ["listed-hidden"]


@pytest.mark.parametrize(
    ("url", "stands_for"),
    [
        ("https://a.example/x", "https://b.example/x"),
        ("http://a.example:8080/", "http://b.example:8080/"),
        ("https://a.example.org/x", "https://a.example.org/x"),
        ("https://www.a.example/", "https://www.a.example/"),
        ("https://c.example:81/a.example", "https://d.example/a.example"),
        ("https://c.example/", "https://c.example/"),
    ],
)
def test_hosts_are_mapped_as_hosts(url: str, stands_for: str) -> None:
    hosts = AddressMap({"a.example": "b.example", "c.example:81": "d.example"})
    assert hosts.url(url) == stands_for


def test_a_host_that_only_begins_like_a_mapped_one_stays(audit_site: AuditSite) -> None:
    pages = {**BASE, "/": html(f'<link rel="canonical" href="{HOST}.test/">')}
    one = audit_site(pages)[0]
    with pytest.raises(AuditCutShort, match="no URL is in both audits"):
        compare(one, audit_site(pages)[0], AddressMap({HOST[8:]: HOST[8:] + ":444"}))
    assert one.rows("SELECT canonical FROM (" + said_sql() + ")")[0] == (HOST + ".test/",)


DOWN = Response(b"", 503)


@pytest.mark.parametrize(
    ("change", "because"),
    [
        ({"/tag/a": DOWN}, "503 Service Unavailable"),
        ({"/robots.txt": DOWN}, "robots.txt: 503 Service Unavailable"),
        ({"/hall": DOWN}, "the home page could not be read: 503 Service Unavailable"),
        ({"/robots.txt": robots("Disallow: /tag/", f"Sitemap: {HOST}/sitemap.xml")}, "blocked, so it was not read"),
    ],
)
def test_what_could_not_be_read_is_neither_mended_nor_worse(
    change: dict[str, Any], because: str, audit_site: AuditSite
) -> None:
    hidden = {**BEFORE, "/tag/a": html(NOINDEX + canonical("/tag/b"))}
    if "/hall" in change:  # the start page is where the start address leads
        hidden |= {"/": moved("/hall"), "/hall": hidden["/"]}
    found = compare(audit_site(hidden)[0], audit_site({**hidden, **change})[0])
    assert (HOST + "/tag/a", because) in {(u["url"], u["because"]) for u in found.unknown}
    # a page that returns 5xx twice on a host that responds is known to be broken, whatever it would say
    broken = {HOST + path for path in ("/tag/a", "/hall") if path in change}
    if DOWN in change.values() and "/tag/a" not in change:  # what was not come across may be there all the same
        assert not found.addresses_gone and not found.sitemap_gone and found.worse == 0
        assert {c.url for c in found.states} <= broken | {HOST + "/"}
    assert not [f for f in found.findings_gone if f.url == HOST + "/tag/a"]
    assert {c.url for c in found.states if c.after == "broken"} >= broken


def test_what_stood_in_a_file_or_page_that_could_not_be_read_is_unknown(audit_site: AuditSite) -> None:
    """A sitemap that is down tells nothing of its entries, and a page that is down nothing of where its links led."""
    index = f"<sitemapindex {XMLNS}><sitemap><loc>{HOST}/one.xml</loc></sitemap><sitemap><loc>{HOST}/two.xml</loc></sitemap></sitemapindex>"
    pages = {**BASE, "/sitemap.xml": index, "/one.xml": sitemap("/", "/a"), "/two.xml": sitemap("/b"),
             "/": html(canonical("/"), a("/a", "/b")), "/a": html(NOINDEX), "/b": html(canonical("/b"), a("/gone"))}  # fmt: skip
    for change, gone, check, url in (
        ({"/one.xml": DOWN}, [], "listed-hidden", "/a"), ({"/b": DOWN}, [], "link-to-gone", "/gone"),
        ({"/two.xml": sitemap(), "/a": html()}, ["/b"], "listed-hidden", None),
    ):  # fmt: skip
        before, after = audit_site(pages)[0], audit_site({**pages, **change})[0]
        found, back = compare(before, after), compare(after, before)
        assert found.sitemap_gone == [HOST + path for path in gone] == back.sitemap_new
        for findings, unknown in ((found.findings_gone, found.unknown), (back.findings_new, back.unknown)):
            assert (check in {f.check for f in findings}) is (url is None)
            assert url is None or (HOST + url, "503 Service Unavailable") in {(u["url"], u["because"]) for u in unknown}


def test_a_limit_makes_nothing_worse(audit_site: AuditSite) -> None:
    found = compare(audit_site(BEFORE)[0], audit_site(BEFORE, limit=2)[0])
    assert found.worse == 0 and not found.findings_gone and not found.states
    assert {u["because"] for u in found.unknown} == {"not read: --limit 2 was reached"}


def test_the_gate_knows_lost_pages_whatever_check_speaks(indrel: Run, tmp_path: Path) -> None:
    """A prefix that shuts wanted pages never passes, though its findings are mild or gathered in one."""
    pages = {f"news{n}/index.html": html(canonical(f"/news{n}/")) for n in ("", "letter", "-old")}
    site = {"index.html": html(canonical("/"), a("/news/", "/newsletter/", "/news-old/")), **pages, "robots.txt": robots(),
            "sitemap.xml": sitemap("/", "/news/")}  # fmt: skip
    write_site(tmp_path / "b", {**site, "news/index.html": html(canonical("/news/"), a("/gone"))})
    indrel("audit", "b", "--base", HOST + "/", "--snapshot", "1.indrel", code=1)
    (tmp_path / "b/robots.txt").write_text("User-agent: *\nDisallow: /news\n")
    done = indrel("audit", "b", "--base", HOST + "/", "--baseline", "1.indrel", "--json", "--fail-on", "stop", code=1)
    told = json.loads(done.stdout)["baseline"]["lost"]
    assert {(one["url"], one["after"]) for one in told} == {(HOST + "/news/", "barred")}
    assert told[0]["evidence"]["line"] == 2 and told[0]["evidence"]["text"] == "Disallow: /news"
    text = indrel("audit", "b", "--base", HOST + "/", "--baseline", "1.indrel", code=1).stdout
    assert "1 wanted page lost" in " ".join(text.split()) and "lost /news/ is barred" in " ".join(text.split())
    for name in ("news", "newsletter", "news-old"):
        write_site(tmp_path / "b", {f"{name}/index.html": html(NOINDEX, canonical(f"/{name}/"))})
    write_site(
        tmp_path / "b", {"robots.txt": robots(), "sitemap.xml": sitemap("/", "/news/", "/newsletter/", "/news-old/")}
    )
    text = indrel("audit", "b", "--base", HOST + "/", "--baseline", "1.indrel", code=1).stdout
    assert text.count("\n  lost  ") == 1 and "  lost  /news-old/, /news/, /newsletter/ are hidden\n" in text


@pytest.mark.parametrize(
    ("now", "intent", "lost"),
    [
        ({}, "", {"/a.html", "/b/"}),
        ({"a.html": html(), "b.html": html()}, "", {"/b/"}),  # nothing redirects from the folder's name to the file's
        ({"a.html": html(), "b/index.html": html()}, "", set()),
        ({"a.html": html()}, "", {"/b/"}),
        (
            {"a.html": '<meta http-equiv="refresh" content="0; url=/n.html">', "n.html": html()},
            "",
            {"/b/"},
        ),  # it has moved
        ({}, '[[want]]\nmatch = "/a*"\nwant = "drop"\n', {"/b/"}),
        ({}, '[[want]]\nmatch = "/c*"\nwant = "show"\n', {"/a.html", "/b/", "/c.html"}),
    ],
)
def test_a_page_that_a_build_no_longer_holds_is_lost(
    now: dict[str, str], intent: str, lost: set[str], indrel: Run, tmp_path: Path
) -> None:
    """Nothing links or lists it any more, so no check speaks of it: the gate does, and `compare`."""
    start = html(canonical("/"), a("/a.html", "/b/", "/c.html", "/a.html?x=1"))
    pages = {
        "a.html": html(),
        "b/index.html": html(canonical("/b/")),
        "c.html": html(),
        "sitemap.xml": sitemap("/a.html", "/b/"),
    }
    (tmp_path / "indrel.toml").write_text(intent)
    write_site(tmp_path / "old", {"index.html": start, **pages})
    write_site(tmp_path / "new", {"index.html": html(canonical("/")), **now})
    for name in ("old", "new"):
        indrel("audit", name, "--base", HOST + "/", "--snapshot", f"{name}.indrel", "--fail-on", "never", code=0)
    code = 1 if lost else 0
    told = json.loads(indrel("audit", "new.indrel", "--baseline", "old.indrel", "--json", code=code).stdout)
    assert {one["url"].removeprefix(HOST) for one in told["baseline"]["lost"]} == lost
    assert {one["evidence"]["text"] for one in told["baseline"]["lost"]} <= {"no file in the folder"}
    held = json.loads(indrel("compare", "old.indrel", "new.indrel", "--json", code=code).stdout)
    assert held["worse"] == len(lost) and {e["after"] for e in held["edits"] if e["wanted"]} <= {"gone"}
    indrel("compare", "old.indrel", "new.indrel", code=code)


def test_a_page_that_nothing_leads_to_any_more_is_asked_for(indrel: Run, tmp_path: Path) -> None:
    """A deleted page is named by no link: what the baseline holds of wanted pages is asked for once the crawl is over. One
    that redirects to an open page has moved."""
    names = ("/deleted", "/kept", "/moved", "/moved-to-nothing", "/moved-but-listed")
    pages = {
        **BASE,
        "/": html(a(*names, "/unwanted")),
        "/sitemap.xml": sitemap(*names),
        **dict.fromkeys((*names, "/unwanted"), html()),
    }
    later = {
        **BASE, "/": html(a("/new")), "/sitemap.xml": sitemap("/", "/new", "/moved-but-listed"), "/kept": html(), "/new": html(),
        "/moved": moved("/new"), "/moved-to-nothing": moved("/deleted"), "/moved-but-listed": moved("/new"),
    }  # fmt: skip
    audited = {}
    for name, files, more, code in (("1", pages, (), 0), ("2", later, ("--baseline", "1.indrel"), 1),
                                    ("3", later, ("--baseline", "2.indrel"), 0)):  # fmt: skip
        with DemoServer(site=served(files)) as server:
            at = [w for h in ("www.", "") for w in ("--connect", f"{h}sarnfell.example=http://127.0.0.1:{server.port}")]
            words = ("audit", HOST, *at, "--rate", "0", "--snapshot", f"{name}.indrel", "--json", *more)
            audited[name] = json.loads(indrel(*words, code=code).stdout)
    lost = {(one["url"].removeprefix(HOST), one["after"]) for one in audited["2"]["baseline"]["lost"]}
    assert lost == {("/deleted", "gone"), ("/moved-to-nothing", "folded")}
    assert audited["2"]["counts"]["states"]["*"] == {"gone": 1, "folded": 3, "open": 3}, "/unwanted is not asked for"
    assert "none.indrel does not exist" in indrel("audit", HOST, "--baseline", "none.indrel", code=2).stderr
