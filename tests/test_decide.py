"""Decisions: states and their order, folds, scopes, kinds, sections, and what explain says of them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import BASE, HOST, NOINDEX, a, canonical, html, moved, robots, sent, sitemap
from conftest import AuditSite
from indrel.ask.explain import explain
from indrel.checks import evidence
from indrel.checks.evidence import links_to
from indrel.core.crawlers import crawler
from indrel.core.robots import decide, parse
from indrel.core.robots.compare import covers, left_out, never_wins
from indrel.core.robots.file import compile_path
from indrel.core.robots.single import matches
from indrel.core.space import pattern
from indrel.decide.build import follow, follow_few
from indrel.decide.sections import Sections
from indrel.decide.site import Site
from indrel.demo.site import Response
from indrel.sources.frontier import BETWEEN, CHOICES, MAX_CHAIN, MAX_CLICKS, Frontier

REFRESH = '<meta http-equiv="refresh" content="0; url=/ok">'
PAST = '<meta name="robots" content="unavailable_after: 2020-01-01">'
STATES = {
    "/ok": (html(), "open"),
    "/locked": (Response(b"", 401), "locked"),
    "/forbidden": (Response(b"", 403), "locked"),
    "/gone": (Response(b"", 410), "gone"),
    "/teapot": (Response(b"", 418), "gone"),
    "/error": (Response(b"", 500), "broken"),
    "/busy": (Response(b"", 408), "broken"),
    "/moved": (moved("/ok"), "folded"),
    "/moved-far": (moved("https://elsewhere.test/x"), "folded"),
    "/to-barred": (moved("/barred/noindex"), "folded"),
    "/nowhere": (Response(b"", 301), "broken"),
    "/loop": (moved("/loop2"), "broken"),
    "/loop2": (moved("/loop"), "broken"),
    "/refresh": (html(REFRESH + NOINDEX), "folded"),
    "/canonical": (html(canonical("/ok") + NOINDEX), "folded"),
    "/own-canonical": (html(canonical("/own-canonical#part")), "open"),
    "/two-canonicals": (html(canonical("/ok") + canonical("/moved")), "open"),
    "/cancelled": (html('<link rel="canonical" href="/ok" hreflang="en">'), "open"),
    "/hidden": (html(NOINDEX), "hidden"),
    "/upper": (html('<META CONTENT="NONE" NAME="ROBOTS">'), "hidden"),
    "/header": (sent(html(), ("X-Robots-Tag", "noindex")), "hidden"),
    "/for-other": (sent(html(), ("X-Robots-Tag", "otherbot: noindex")), "open"),
    "/expired": (html(PAST), "hidden"),
    "/error-tag": (sent(html(NOINDEX), status=404), "gone"),
    "/hut": (moved("/hut/"), "folded"),
    "/hut/": (html(canonical("/hut")), "folded"),
    "/void": (html('<meta property="robots" content="noindex">'), "open"),
    "/document.pdf": (
        Response(b"%PDF", media_type="application/pdf", headers=(("X-Robots-Tag", "noindex"),)),
        "hidden",
    ),
    "/barred/noindex": (html(NOINDEX), "barred"),
    "/latin": (Response("<title>é</title><p>où".encode("latin-1"), media_type="text/html; charset=iso-8859-1"), "open"),
}


def all_states(audit_site: AuditSite) -> Site:
    pages = {**BASE, **{path: answer for path, (answer, _) in STATES.items()}}
    pages |= {"/": html(body=a(*STATES)), "/robots.txt": robots("Disallow: /barred/", f"Sitemap: {HOST}/sitemap.xml")}
    return audit_site(pages)[0]


def test_states(audit_site: AuditSite) -> None:
    site = all_states(audit_site)
    rows = site.rows(f"SELECT path, {site.state_sql(2)} FROM fact WHERE known AND site")
    assert {path: state for path, state in rows if path != "/"} == {path: state for path, (_, state) in STATES.items()}
    folds = dict(
        site.rows(
            "SELECT f.path, t.origin || t.path FROM fact f LEFT JOIN fact t ON t.id = f.folds_into WHERE f.fold_how IS NOT NULL"
        )
    )
    assert folds["/refresh"] == folds["/moved"] == folds["/canonical"] == f"{HOST}/ok"
    assert folds["/moved-far"] == "https://elsewhere.test/x" and folds["/loop"] is folds["/hut"] is None
    steps = {s.step: s for s in explain(site, f"{HOST}/canonical").steps["googlebot"]}
    assert steps["directives"].outcome == "noindex (tag)" and steps["canonical"].outcome == f"points to {HOST}/ok"
    assert "a loop" in next(s for s in explain(site, f"{HOST}/loop").steps["*"] if s.step == "answer").outcome
    assert (
        "without effect" in next(s for s in explain(site, f"{HOST}/void").steps["*"] if s.step == "directives").outcome
    )
    assert explain(site, f"{HOST}/ok").folded_here == [f"{HOST}/canonical", f"{HOST}/moved", f"{HOST}/refresh"]
    assert any("blocks " + HOST + "/barred/noindex" in s.outcome for s in explain(site, f"{HOST}/to-barred").steps["*"])
    unknown = explain(site, f"{HOST}/barred/x")
    assert (unknown.known, unknown.states["*"]) == (False, "barred")


def test_scopes_hold_for_families(audit_site: AuditSite) -> None:
    head = '<meta name="googlebot" content="noindex"><meta name="bingbot" content="nofollow">'
    pages = {**BASE, "/": html(body=a("/a")), "/a": html(head)}
    names = ("googlebot", "googlebot-image", "bingbot", "applebot", "*")
    site, verdict = audit_site(pages, crawlers=names)
    assert site.names(site.one("SELECT noindex FROM fact WHERE path = '/a'")) == ("googlebot", "googlebot-image")
    assert site.names(site.one("SELECT nofollow FROM fact WHERE path = '/a'")) == ("bingbot",)
    assert [f.crawlers for f in verdict.findings if f.check == "noindex-partial"] == [("googlebot", "googlebot-image")]


KINDS = {
    "/": "start", "/a": "other", "/feed/": "feed", "/search?q=a": "search-results", "/shop/cart": "cart",
    "/login": "login", "/logins-explained": "other", "/thank-you/": "thank-you",
    "/THANKS.gz": "other", "/thanks.php": "thank-you", "/a?sort=up": "parameter-variant",
    "/news/page/3/": "numbered-page", "/tag/a/": "tag-archive", "/tags/": "other", "/author/b/": "author-archive",
    "/category/c/": "category", "/2025/11/": "date-archive", "/hut-book/2025/": "other", "/x.PDF": "document",
    "/research/findings": "other", "/a?utm_source=x": "parameter-variant",
    "/tag/dogs.html": "tag-archive", "/author/a-b.html": "author-archive", "/category/c.html": "category",
    "/index2.html": "numbered-page", "/news/page/3.html": "numbered-page", "/tag/a.pdf": "document", "/index.html": "other",
}  # fmt: skip


def test_kinds(audit_site: AuditSite) -> None:
    """Of URLs that nothing is known of but that they are linked."""
    site = audit_site({**BASE, "/": html(body=a(*KINDS))}, follow_links=False)[0]
    found = dict(site.rows("SELECT path, kind FROM fact WHERE origin = ? AND path <> '/sitemap.xml'", [HOST]))
    assert {path: found.get(path) for path in KINDS} == KINDS


@pytest.mark.parametrize(
    ("path", "section"),
    [
        ("/", "/"),
        ("/?a=1", "/"),
        ("/a", "/*"),
        ("/a?b=/c/", "/*"),
        ("/a/", "/a/*"),
        ("/a/b/c?d", "/a/*"),
        ("//a/b", "/*"),
        ("/alone/", "/*"),
        ("/2025/b", "/<number>/*"),
    ],
)
def test_sections(path: str, section: str) -> None:
    sections = Sections(HOST, ["a", "<number>"])
    assert sections.of(HOST + path) == section
    assert (
        sections.of("https://other.test/a/b") == "//other.test/a/*"
        and sections.of("https://other.test/") == "//other.test/"
    )


def test_sections_are_found_in_addresses(audit_site: AuditSite) -> None:
    """A folder with something below it is a section, a page written with a slash at its end is none."""
    links = ["/alone/", "/huts/", "/huts/a", "/2024/x", "/2025/y", "/p?q=/r/"]
    site = audit_site({**BASE, "/": html(body=a(*links))}, follow_links=False)[0]
    assert [site.section(HOST + p) for p in links] == ["/*", "/huts/*", "/huts/*", "/<number>/*", "/<number>/*", "/*"]
    many = [f"/s{i:03}/x" for i in range(60)] + ["/s007/y"]
    site = audit_site({**BASE, "/": html(body=a(*many))}, follow_links=False)[0]
    kept = {site.section(HOST + p) for p in many}
    assert len(kept) == 31 and "/s007/*" in kept and "/*" in kept


@given(st.lists(st.tuples(st.integers(0, 19), st.integers(0, 19)), max_size=25))
def test_following_chains(pairs: list[tuple[int, int]]) -> None:
    steps = {x: y for x, y in pairs if x != y}
    address = np.array(sorted(steps), dtype=np.int64)
    target = np.array([steps[x] for x in sorted(steps)], dtype=np.int64)
    final, looped = follow(address, target, 20)
    told = zip(final.tolist(), looped.tolist(), strict=True)
    assert follow_few(steps) == {x: None if loops else end for x, (end, loops) in zip(sorted(steps), told, strict=True)}
    for start, end, loops in zip(address.tolist(), final.tolist(), looped.tolist(), strict=True):
        at, seen = start, set()
        while at in steps and at not in seen:
            seen.add(at)
            at = steps[at]
        assert loops is (at in seen) and (loops or end == at)


def test_frontier_bounds_patterns() -> None:
    frontier = Frontier(per_pattern=20)
    cal = pattern(f"{HOST}/cal/1")
    deep = [frontier.add(n, f"{HOST}/cal/{n}", n, 0, [cal]) for n in range(1, 51)]
    assert deep.count(True) == 20 and frontier.bounded() == {f"{HOST}/cal/*": 30}
    assert frontier.add(40, f"{HOST}/cal/40", 1, 0, [f"{HOST}/"]) and frontier.bounded() == {f"{HOST}/cal/*": 29}
    assert frontier.add(41, f"{HOST}/cal/41", 0), "a sitemap or list names it"
    assert not frontier.add(900, f"{HOST}/far", MAX_CLICKS + 1, 0, [f"{HOST}/x"]) and frontier.add(
        901, f"{HOST}/other", 20
    )
    assert not frontier.add(902, f"{HOST}/hop", 1, MAX_CHAIN + 1, [f"{HOST}/x"])


def test_frontier_bounds_patterns_that_name_each_other() -> None:
    frontier, most = Frontier(per_pattern=4), 4 * BETWEEN
    for kind, other in (("day", "month"), ("month", "day")):
        there = [
            frontier.add(hash((kind, n)), f"{HOST}/{kind}/{n}", 2, 0, [pattern(f"{HOST}/{other}/1")])
            for n in range(most + 9)
        ]
        assert there.count(True) == most
    assert frontier.bounded() == {f"{HOST}/day/*": 9, f"{HOST}/month/*": 9}
    assert all(frontier.add(n, f"{HOST}/hut/{n}", 2, 0, [f"{HOST}/huts"]) for n in range(most + 9)), (
        "one list names them"
    )


def test_frontier_bounds_the_variants_of_a_page() -> None:
    frontier, most = Frontier(per_pattern=4), 4 * CHOICES
    chosen = [
        f"{HOST}/query?by={n}&" + "&".join(f"f{'abcdefghij'[i]}={n}" for i in range(10) if n >> i & 1)
        for n in range(400)
    ]
    there = [frontier.add(n, url, 2, 0, [pattern(f"{HOST}/query?by=1")]) for n, url in enumerate(chosen)]
    assert there.count(True) == most and frontier.bounded() == {f"{HOST}/query?*&*": 400 - most}
    assert frontier.add(900, f"{HOST}/query?by=9&fa=4", 2, 0, [f"{HOST}/huts"]), "a page of another kind names it"


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("/cal/2026/01", "/cal/2027/12"), ("/p?page=2&sort=a", "/p?page=30&sort=b"), ("/s/3fa9c2d1e8", "/s/00a9c2d1ff"),
        ("/x;jsessionid=AB12CD34EF", "/x;jsessionid=0012CD34EF"), ("/a/b/a/b/c", "/a/b/a/b/a/b/c"), ("/Page/A1", "/page/a2"),
        ("/q?a=1&b=2&a=3", "/q?b=9&a="), ("/q?f[0]=x", "/q?f[12]=y"), ("/cal?2026-01", "/cal?2027-12"),
    ],
)  # fmt: skip
def test_addresses_of_one_pattern(one: str, other: str) -> None:
    assert pattern(HOST + one) == pattern(HOST + other) != pattern(HOST + "/else")


_pattern = st.lists(st.sampled_from(["a", "b", "/", "*", "$", "ab"]), min_size=1, max_size=6).map(
    lambda p: "/" + "".join(p)
)
_words = st.text(alphabet="ab/", max_size=8).map(lambda t: "/" + t)


@settings(max_examples=150)
@given(_pattern, _pattern, st.lists(_words, min_size=1, max_size=12))
def test_cover_is_never_wrongly_claimed(wide: str, narrow: str, paths: list[str]) -> None:
    outer, inner = compile_path(wide), compile_path(narrow)
    if covers(outer, inner):
        assert all(matches(outer, p) for p in paths if matches(inner, p))


@settings(max_examples=150)
@given(
    st.lists(st.tuples(st.sampled_from(["allow", "disallow"]), _pattern), min_size=1, max_size=6),
    st.lists(_words, max_size=15),
)
def test_rules_said_never_to_win_never_decide(lines: list[tuple[str, str]], paths: list[str]) -> None:
    rules = parse(("user-agent: *\n" + "\n".join(f"{f}: {p}" for f, p in lines)).encode()).ruleset(("*",)).rules
    never = {rule.line for rule, _ in never_wins(rules)}
    for path in paths:
        rule = decide(rules, path)[1]
        assert rule is None or rule.line not in never


@pytest.mark.parametrize(
    ("wide", "narrow", "expected"),
    [
        ("/a", "/ab", True), ("/ab", "/a", False), ("/*", "/a$", True), ("/*.pdf", "/x.pdf$", True), ("/a*", "/a", True),
        ("/a$", "/a", False), ("/*$", "/a", True), ("/a*b", "/axb", True), ("/axb", "/a*b", False),
    ],
)  # fmt: skip
def test_cover(wide: str, narrow: str, expected: bool) -> None:
    assert covers(compile_path(wide), compile_path(narrow)) is expected


def test_rules_left_out() -> None:
    file = parse(b"user-agent: *\ndisallow: /a\ndisallow: /b/\ndisallow: c\nuser-agent: x\ndisallow: /b\n")
    missing = left_out(file.ruleset(("x",)).rules, file.ruleset(("*",)).rules)
    assert [r.path for r in missing] == ["/a"]
    assert crawler("x").robots_tokens == ("x", "*")


def test_listed_addresses_are_wanted(audit_site: AuditSite) -> None:
    pages = {
        **BASE,
        "/sitemap.xml": sitemap("/", "/l"),
        "/l": html(),
        "/": html(canonical("/n"), a("/search?q=1", "/o", "/c", "/d", "/n")),
        "/c": html(canonical("/open")),
        "/open": html(),
        "/d": html(canonical("/gone-and-not-linked")),
    }
    site = audit_site(pages)[0]
    rows = dict(site.rows("SELECT path, want FROM fact WHERE known"))
    # the target of a canonical is wanted if it is open, listed or linked; else it is the canonical's fault
    shown = dict.fromkeys(("/", "/l", "/n", "/open"), "show")
    assert rows == {**shown, "/search?q=1": "hide", **dict.fromkeys(("/o", "/c", "/d", "/gone-and-not-linked"), "any")}


def test_what_shows_the_same_in_another_order_is_a_variant(audit_site: AuditSite) -> None:
    huts = [
        f'<p><a href="/{name}">{name}</a> stands {n * 90} metres up</p>'
        for n, name in enumerate(("pike", "fell", "tarn", "scar", "beck"), 9)
    ]

    def listing(order: list[str]) -> object:
        return html(body=f"<h1>Huts</h1><main>{''.join(order)}</main>")

    pages = {
        **BASE,
        "/": html(canonical("/"), a("/huts", "/huts?by=name", "/huts?valley=2", "/huts?with=more", "/few", "/few?by=name", "/few?x=1")),
        "/huts": listing(huts), "/huts?by=name": listing([*huts[2:], *huts[:2]]), "/huts?valley=2": listing(huts[:3]),
        **dict.fromkeys(("/few", "/few?by=name", "/few?x=1"), listing([f"<p>{'hut ' * 30}</p>"])),
        "/huts?with=more": listing([*huts[:4], huts[4].replace("metres", "feet")]),
        **{f"/{name}": html(body=f"<p>{name}</p>") for name in ("pike", "fell", "tarn", "scar", "beck")},
    }  # fmt: skip
    site, verdict = audit_site(pages)
    assert site.rows("SELECT path FROM fact WHERE kind = 'parameter-variant' ORDER BY path") == [
        ("/few?by=name",),
        ("/huts?by=name",),
    ]
    junk = [f for f in verdict.findings if f.check == "junk-open"]
    assert [f.url for f in junk] == [f"{HOST}/few?by=name", f"{HOST}/huts?by=name"] and len(
        {f.cause for f in junk}
    ) == 1
    assert [f.url for f in verdict.findings if f.check == "twin-open"] == [f"{HOST}/few"]


def test_what_a_search_form_leads_to_is_its_results(audit_site: AuditSite) -> None:
    form = '<form action="/finden/"><input type="search" name="begriff"></form><form action="/plan"><input name="zip"></form>'
    pages = {
        **BASE,
        "/": html(canonical("/"), form + a("/finden/?begriff=ofen", "/finden/", "/finden/?seite=2", "/plan?zip=7"), "Start"),
        "/finden/?begriff=ofen": html(body="<p>Three huts have a stove.</p>"), "/finden/": html(), "/finden/?seite=2": html(),
        "/plan?zip=7": html(),
    }  # fmt: skip
    site, verdict = audit_site(pages)
    kinds = dict(site.rows("SELECT path, kind FROM fact WHERE known"))
    assert [path for path, kind in kinds.items() if kind == "search-results"] == ["/finden/?begriff=ofen"]
    assert site.rows("SELECT line, text FROM slip WHERE kind = 'search'") == [(3, '<form action="/finden/">')]
    assert [f.url for f in verdict.findings if f.check == "junk-open"] == [f"{HOST}/finden/?begriff=ofen"]


@pytest.mark.parametrize("unfollowed", [None, True, False])
def test_links_shown_of_many_are_those_of_each(
    audit_site: AuditSite, monkeypatch: pytest.MonkeyPatch, unfollowed: bool | None
) -> None:
    """Where many addresses are linked, pages are put in order once, as numbers: that chooses the same links."""
    targets = [f"/to/{i}" for i in range(6)]
    pages = {
        f"/from/{i:02}": html(body=a(*targets[i % 3 :]) + "\n" + a(*targets[: i % 5], rel="nofollow"))
        for i in range(12)
    }
    site, _ = audit_site({**BASE, "/": html(canonical("/"), a(*pages)), **pages})
    ids = [number for (number,) in site.rows("SELECT id FROM address WHERE path LIKE '/to/%' ORDER BY id")]
    monkeypatch.setattr(evidence, "_is_small", lambda _: False)
    each = {number: found for one in ids for number, found in links_to(site, [one], 3, unfollowed).items()}
    monkeypatch.setattr(evidence, "_MANY_LINKED", 1)
    assert links_to(site, ids, 3, unfollowed) == each
    assert len(each) > 3 and any(len(found) == 3 for found in each.values())
