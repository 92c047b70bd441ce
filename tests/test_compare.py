"""Two audits held against each other, and an audit that fails only on what is new."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from cases import BASE, HOST, NOINDEX, a, canonical, html, robots, sitemap
from conftest import AuditSite
from indrel.compare import compare, said_sql
from indrel.core.address import HostMap
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
    assert told.startswith("1 wanted address got worse; 1 address of ") and "a.html:2" in told
    assert indrel("compare", "3.indrel", "1.indrel", code=0).stdout.startswith("nothing wanted got worse")
    write_site(tmp_path / "plain", {"index.html": html(body=a("/a.html")), "a.html": html()})
    indrel("audit", "plain", "--snapshot", "4.indrel", "--base", HOST + "/")
    write_site(tmp_path / "plain", {"a.html": html(NOINDEX)})
    indrel("audit", "plain", "--snapshot", "5.indrel", "--base", HOST + "/")
    told = indrel("compare", "4.indrel", "5.indrel", code=0).stdout
    assert told.startswith("1 address is open no more, none of them known to be wanted; "), told
    mapped = json.loads(
        indrel(
            "compare", "2.indrel", "1.indrel", "--map", "staging.sarnfell.example=www.sarnfell.example", "--json"
        ).stdout
    )
    assert {(c["url"], c["before"], c["after"]) for c in mapped["states"]} == {(f"{HOST}/a.html", "hidden", "open")}
    assert mapped["directives"] == [{"url": f"{HOST}/a.html", "what": "robots", "before": "noindex", "after": "none"}]
    assert {f["check"] for f in mapped["findings_gone"]} == {"listed-hidden", "link-to-shut"} and not mapped[
        "findings_new"
    ]
    assert json.loads(indrel("compare", "2.indrel", "1.indrel", "--json").stdout)["states"] == []
    assert "write HOST=HOST" in indrel("compare", "1.indrel", "2.indrel", "--map", "x", code=2).stderr
    same = indrel("audit", "1.indrel", "--baseline", "1.indrel", code=0).stdout
    assert re.match(
        r"\S+ nothing new in 3 addresses since 1.indrel; \d+ findings were there before\.$", same.splitlines()[0]
    )
    new = indrel(
        "audit", "3.indrel", "--baseline", "1.indrel", "-o", "x.sarif", "-o", "x.md", "-o", "x.html", code=1
    ).stdout
    assert " in conflict, from " in new and "listed-hidden" in new and "link-to-gone" not in new, new
    assert "link-to-gone" in indrel("audit", "3.indrel", "--baseline", "1.indrel", "--verbose", code=1).stdout
    assert "link-to-gone" not in (tmp_path / "x.md").read_text() and ">new<" in (tmp_path / "x.html").read_text()
    results = json.loads((tmp_path / "x.sarif").read_text())["runs"][0]["results"]
    assert {(r["ruleId"], r["baselineState"]) for r in results} >= {
        ("listed-hidden", "new"),
        ("link-to-gone", "unchanged"),
    }
    done = indrel("audit", "3.indrel", "--baseline", "1.indrel", "--json", code=1)
    assert [f["check"] for f in json.loads(done.stdout)["findings"] if f["new"]] == ["listed-hidden", "link-to-shut"]


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
    hosts = HostMap({"a.example": "b.example", "c.example:81": "d.example"})
    assert hosts.url(url) == stands_for


def test_a_host_that_only_begins_like_a_mapped_one_stays(audit_site: AuditSite) -> None:
    pages = {**BASE, "/": html(f'<link rel="canonical" href="{HOST}.test/">')}
    one = audit_site(pages)[0]
    found = compare(one, audit_site(pages)[0], HostMap({HOST[8:]: HOST[8:] + ":444"}))
    assert found.common == 0 and not [d for d in found.directives if d["what"] == "canonical"]
    assert one.rows("SELECT canonical FROM (" + said_sql("m.other") + ")")[0] == (HOST + ".test/",)
