"""Which row speaks when several would: one fact is told once, by the row that says most."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, HOST, NOINDEX, a, canonical, html, listed, moved, page, robots, sitemap
from conftest import AuditSite
from indrel.ask.explain import explain
from indrel.demo.site import Response

PASSWORD = '<form><input type="password"></form>'
SHOW = '[[want]]\nmatch = "/a*"\nwant = "show"\n'
HIDE = SHOW.replace("show", "hide")
LINKED = {**BASE, "/": html(canonical("/"), a("/a"))}
OTHER = "<p>Members meet in March; accounts, elections and soup follow, all in the village hall.</p>"
STAGING = "https://staging.sarnfell.example"
BARRED = robots("Disallow: /a/", f"Sitemap: {HOST}/sitemap.xml")
# pages, intent, options; rows that must speak, rows that must not, about /a or what is below it
TABLE: list[tuple[dict[str, Any], str | None, dict[str, Any], set[str], set[str]]] = [
    (listed("/a", html(NOINDEX)), None, {}, {"listed-hidden"}, {"noindex-wanted"}),
    (listed("/a", html(NOINDEX)), SHOW, {}, {"noindex-wanted"}, {"listed-hidden"}),
    (listed("/a", html(NOINDEX)), HIDE, {}, {"listed-unwanted"}, {"listed-hidden", "noindex-wanted", "open-unwanted"}),
    (listed("/a", html()), HIDE, {}, {"listed-unwanted", "open-unwanted"}, {"no-path"}),
    ({**listed("/a/b", html()), "/robots.txt": BARRED}, None, {}, {"listed-barred"}, {"barred-wanted"}),
    ({**listed("/a/b", html()), "/robots.txt": BARRED}, SHOW, {}, {"barred-wanted"}, {"listed-barred"}),
    ({**listed("/ab", html()), "/robots.txt": robots("Disallow: /a", f"Sitemap: {HOST}/sitemap.xml")}, None, {},
     {"listed-barred"}, {"barred-wanted"}),
    ({**LINKED, "/": html(canonical("/"), a("/a?print=1")), "/a?print=1": html(canonical("/a") + NOINDEX), "/a": html(canonical("/a"))},
     None, {}, {"canonical-and-noindex"}, {"open-unwanted", "junk-open", "noindex-wanted"}),
    ({**LINKED, "/a": html('<script src="/a.js"></script>'), "/robots.txt": robots("Disallow: /a.js")}, SHOW, {}, set(), {"barred-wanted"}),
    ({**LINKED, "/": html(body=a("/a/embed/")), "/a/embed/": html(title="Embed")}, None, {}, {"open-unwanted"}, {"junk-open"}),
    ({**LINKED, "/": html(body=a("/a/b")), "/robots.txt": BARRED, "/a/b": html(NOINDEX)}, HIDE, {"read_barred": True},
     {"barred-noindex"}, {"barred-to-hide"}),
    ({**LINKED, "/a": html(title="Log in", body=PASSWORD)}, HIDE, {}, {"gate-open"}, {"open-unwanted"}),
    ({**LINKED, "/": html(body=a("/a?sort=x")), "/a?sort=x": page()}, HIDE, {}, {"junk-open"}, {"open-unwanted", "twin-open"}),
    ({**LINKED, "/": html(body=a("/a/login?next=a", "/a/login?next=b")), "/a/login?next=a": page(), "/a/login?next=b": page()}, None, {},
     {"open-unwanted"}, {"twin-open"}),
    ({**LINKED, "/a": html(canonical("/a/nowhere"))}, None, {}, {"canonical-to-gone"}, {"canonical-relative"}),
    ({**LINKED, "/a": html('<link rel=canonical href="nowhere">')}, None, {}, {"canonical-relative"}, {"canonical-to-gone"}),
    ({**LINKED, "/a": page(head=canonical("/b")), "/b": page(OTHER)}, SHOW, {}, {"canonical-wanted-folded"}, {"canonical-unlike"}),
    ({**LINKED, "/a": html('<meta name="robots" content="unavailable_after: soon">')}, None, {}, {"robots-token-slip"},
     {"robots-header-slip", "expiry-passed"}),
    ({**LINKED, "/a": html('<link rel=canonical href="http://localhost/a">')}, None, {}, {"canonical-to-closed-host"},
     {"canonical-off-site", "canonical-unusable"}),
    ({**LINKED, "/a": html(f'<link rel=canonical href="{STAGING}/a">'), f"{STAGING}/robots.txt": robots("Disallow: /")},
     f'[[host]]\nname = "{STAGING[8:]}"\nclosed = true\n', {}, {"canonical-to-closed-host"}, {"canonical-to-barred"}),
    ({**LINKED, "/a": html('<link rel=canonical href="file:///a">')}, None, {}, {"canonical-unusable"}, {"canonical-to-closed-host"}),
    ({**LINKED, "/a": html(f'<link rel=canonical href="http://{HOST[8:]}/a">')}, None, {}, {"canonical-host-variant"},
     {"canonical-off-site", "canonical-to-redirect", "canonical-loop"}),
    ({**LINKED, "/a": html('<link rel=canonical href="">' + canonical("/b")), "/b": html(canonical("/b"))}, None, {},
     {"canonical-several"}, {"canonical-unusable", "canonical-wanted-folded"}),
    ({**LINKED, "/a": html(f'<link rel=canonical media=print href="{HOST}/b">' + canonical("/a"))}, None, {}, {"canonical-unusable"},
     {"canonical-several"}),
    ({**listed("/a", html(title="Page not found", body="<p>Sorry.</p>")), "/": html(canonical("/"), a("/a"))}, None, {}, {"soft-missing"},
     {"listed-broken", "link-to-gone"}),
    ({**LINKED, "/a": moved("/b"), "/b": page()}, SHOW, {}, {"canonical-wanted-folded"}, set()),
    ({**listed("/a", moved("/b")), "/b": page()}, SHOW, {}, {"listed-redirects"}, {"canonical-wanted-folded"}),
    ({**LINKED, "/": html('<meta name="bingbot" content="noindex">', a("/b") + a("/a", rel="nofollow")), "/b": html(body=a("/a")),
      "/a": page()}, SHOW, {}, {"link-nofollow-inside"}, set()),
    ({**listed("/x", page()), "/": html(body=a("/a", "/b")), "/a": html('<meta name="robots" content="none">', a("/x")),
      "/b": html(body=a("/x"))}, None, {"limit": 3}, set(), {"noindex-nofollow-hub"}),
    ({**LINKED, "/a": Response(b"", 403)}, None, {}, set(), {"link-to-gone"}),
    ({**LINKED, "/a": Response(b"", 403)}, HIDE, {}, set(), {"link-to-gone"}),
]  # fmt: skip


@pytest.mark.parametrize("row", TABLE, ids=[" ".join(sorted(row[3])) + f" {n}" for n, row in enumerate(TABLE)])
def test_one_row_speaks(row: Any, audit_site: AuditSite) -> None:
    pages, intent, options, speak, stay = row
    verdict = audit_site(pages, intent=intent, **options)[1]
    same_edit = [f for cause in verdict.causes for one in verdict.joined(cause) for f in one.findings]
    found = [f for f in (*verdict.findings, *same_edit) if "/a" in f.url]
    assert {f.check for f in found} >= speak and not {f.check for f in found} & stay


@pytest.mark.parametrize("match", ["/a", "/a*"])
@pytest.mark.parametrize(
    ("answer", "lost"),
    [
        (moved("/b"), "ask"), (moved("/a/"), "met"), (page(head='<meta http-equiv="refresh" content="0;url=/b">'), "ask"),
        (page(head=canonical("/b")), "fix"), (page(head=NOINDEX), "fix"), (Response(b"", 403), "fix"), (Response(b"", 410), "fix"),
        (Response(b"", 500), "fix"), (html(title="Page not found", body="<p>Sorry.</p>"), "fix"), (page(), "open"),
    ],
)  # fmt: skip
def test_each_page_said_to_be_lost_is_told_of(match: str, answer: Any, lost: str, audit_site: AuditSite) -> None:
    """An address that names itself is to answer itself; a pattern is met by the page that another form of it leads to."""
    pages = {**LINKED, "/a": answer, "/a/": page(OTHER, canonical("/a/")), "/b": page(OTHER, canonical("/b"))}
    verdict = audit_site(pages, intent=SHOW.replace("/a*", match))[1]
    told = {f.severity.word for f in verdict.findings if f.url == HOST + "/a"} - {"note"}
    said = verdict.headline
    expected = {"met": "" if "*" in match else "fix", "open": "", "ask": "ask" if "*" in match else "fix"}.get(
        lost, lost
    )
    assert (said.lost, told - {"ask"} if expected != "ask" else told) == (bool(expected), {expected} - {""})


def test_a_folder_does_not_tell_what_servers_add(indrel: Any, tmp_path: Path) -> None:
    """Neither credentials that are asked for nor headers are known, so nothing is said to stand open for want of them."""
    (tmp_path / "www" / "wardens").mkdir(parents=True)
    feed = '<feed xmlns="http://www.w3.org/2005/Atom"/>'
    start = page(body='<a href="/feed.xml">News</a><a href="/fees.pdf">Fees</a>')
    for name, text in (("index.html", start), ("wardens/rota.html", page()), ("fees.pdf", "%PDF"), ("feed.xml", feed)):
        (tmp_path / "www" / name).write_text(text, "utf-8")
    (tmp_path / "indrel.toml").write_text(
        '[[want]]\nmatch = "/wardens/*"\nwant = "lock"\n' + HIDE.replace("/a*", "/fe*"), "utf-8"
    )
    done = indrel("audit", "www", "--base", HOST + "/", "--json")
    said = json.loads(done.stdout)
    assert done.returncode == 0 and said["verdict"]["exposed"] == 0 and said["counts"]["states"]["*"] == {"open": 4}
    assert {"file-needs-header", "open-locked", "robots-header-slip", "listed-locked"} <= {
        s["check"] for s in said["skipped_checks"]
    }


@pytest.mark.parametrize(
    ("intent", "severity"),
    [(None, "ask"), (SHOW, "fix"), ('[[want]]\nkind = "other"\nwant = "show"\n', "fix")],
)
def test_implied_wants_are_milder(intent: str | None, severity: str, audit_site: AuditSite) -> None:
    pages = {**BASE, "/": html(canonical("/a"), a("/a")), "/sitemap.xml": sitemap("/"), "/a": html(NOINDEX)}
    finding = next(f for f in audit_site(pages, intent=intent)[1].findings if f.check == "noindex-wanted")
    assert finding.severity.word == severity and finding.url == HOST + "/a"


def test_pages_to_be_hidden_raise_no_fix(audit_site: AuditSite) -> None:
    pages = {**BASE, "/": html(canonical("/"), a("/a?print=1", "/a/embed/", "/feed/")), "/a?print=1": html(canonical("/a") + NOINDEX),
             "/a": html(canonical("/a")), "/a/embed/": html(canonical("/a")), "/feed/": html()}  # fmt: skip
    verdict = audit_site(pages)[1]
    found = verdict.findings
    assert verdict.headline and verdict.headline.exposed == 0, (
        "neither an embed that gives way nor a feed is an exposure"
    )
    assert {f.severity.word for f in found if f.url != HOST + "/" and "a?print" in f.url + str(f.also)} <= {"note"}
    assert not [f for f in found if f.severity.value > 2]


def test_a_host_declared_closed_is_told_to_be_open_and_nothing_else(audit_site: AuditSite) -> None:
    pages = {**BASE, "https://staging.sarnfell.example/": html(canonical("/"), a("/x")),
             "https://staging.sarnfell.example/x": html(NOINDEX),
             "https://staging.sarnfell.example/robots.txt": "Dissalow: /"}  # fmt: skip
    intent = '[[host]]\nname = "staging.sarnfell.example"\nclosed = true\nbecause = "copies"\n'
    found = audit_site(pages, intent=intent)[1].findings
    assert [(f.check, f.severity.word) for f in found if "staging" in f.url] == [("host-open", "stop")]


def test_what_follows_from_a_shut_site_is_silent(audit_site: AuditSite) -> None:
    links = [f"/p/{n}" for n in range(12)]
    tags = ("", NOINDEX, '<meta name="robots" content="noindex, nofollow">')
    said = [(1, 1, ""), (2, 2, ""), (2, 1, ""), (0, 0, "/")]  # the start page may say it in other words
    for first, head, rules in ((tags[one], tags[other], f"Disallow: {rule}") for one, other, rule in said):
        pages = {**BASE, "/": html(canonical("/") + first, a(*links)), "/sitemap.xml": sitemap("/", *links),
                 "/robots.txt": robots(rules, f"Sitemap: {HOST}/sitemap.xml"),
                 **{p: html(canonical(p) + head, a("/"), title=p) for p in links}}  # fmt: skip
        verdict = audit_site(pages)[1]
        assert [f.check for f in verdict.findings] == ["site-noindex" if head else "site-barred"]
        assert verdict.headline.whole and (":2" in verdict.headline.sentence) and verdict.headline.lost == 13


NOFOLLOW = '<meta name="robots" content="nofollow">'


@pytest.mark.parametrize(
    ("heads", "rule", "told"),
    [
        (("", ""), "", set()),
        ((NOINDEX, NOINDEX), "", {"site-noindex"}),
        ((NOFOLLOW, NOFOLLOW), "", {"site-nofollow"}),
        (("", ""), "Disallow: /en/", {"site-barred"}),
        ((NOINDEX, ""), "", {"start-not-open"}),
        (("gone", ""), "", {"start-not-open"}),
        (("login", ""), "", {"start-not-open"}),
    ],
)
def test_the_start_page_is_where_the_start_address_leads(
    heads: tuple[str, str], rule: str, told: set[str], audit_site: AuditSite
) -> None:
    """A site whose start address only leads on, to a language: that page is wanted, and what is wrong with it is told first."""
    links = [f"/en/{n}" for n in range(6)]
    front = html(canonical("/en/") + heads[0], a(*links))
    if heads[0] == "gone":
        front = Response(b"", 404)
    elif heads[0] == "login":
        front = html(body="<form><input type=password name=p></form>", title="Log in")
    pages = {"/robots.txt": robots(rule or "Disallow: /x", f"Sitemap: {HOST}/sitemap.xml"), "/": moved("/hall"), "/hall": moved("/en/"),
             "/en/": front, "/sitemap.xml": sitemap("/en/", *links),
             **{p: html(canonical(p) + heads[1], a("/en/"), title=p) for p in links}}  # fmt: skip
    site, verdict = audit_site(pages)
    assert explain(site, HOST + "/").want_because.startswith("it only redirects: the home page is")
    assert {f.check for f in verdict.findings if f.severity.value > 2} == told
    assert {f.url for f in verdict.findings if f.check in told} <= {HOST + "/"}
    assert verdict.headline.whole is bool(told - {"site-nofollow"})
    assert (verdict.headline.lost > 0) is (verdict.headline.whole and heads[0] != "login")


def test_a_listed_page_whose_date_has_passed(audit_site: AuditSite) -> None:
    """Its noindex is one that nobody wrote: the date has to be changed."""
    past = '<meta name="robots" content="unavailable_after: 2020-01-01">'
    found = audit_site({**listed("/a", html(past)), "/b": html(NOINDEX), "/sitemap.xml": sitemap("/", "/a", "/b")})[
        1
    ].findings
    told = {f.url[len(HOST) :]: (f.message, f.advice) for f in found if f.check == "listed-hidden"}
    assert "since its date passed" in told["/a"][0] and told["/a"][1].startswith("Remove the date")
    assert told["/b"] == ("The sitemap lists this URL, but the page has noindex.", "")
