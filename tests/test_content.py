"""What pages are and say: kinds, error pages in disguise, empty lists, twins, and the weight of links."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cases import BASE, HOST, NOINDEX, a, canonical, html, moved, robots, sitemap
from conftest import AuditSite
from indrel.ask.addresses import Filters, listed
from indrel.ask.explain import explain
from indrel.core.address import Joiner, made_up_path
from indrel.core.crawlers import resolve
from indrel.core.page.facts import Mark
from indrel.core.page.html import read_page
from indrel.core.page.sketch import alike, fingerprint, words_of
from indrel.core.page.wording import says_error, structured_data
from indrel.decide.flow import link_flow
from indrel.decide.graph import LinkGraph, link_graph
from indrel.decide.kinds import RULES, kind_of_address
from indrel.decide.site import Site
from indrel.decide.sitemaps import left_out
from indrel.demo.page import Response
from indrel.snapshot import Snapshot, SnapshotWriter

WORDS = [
    "stove",
    "beck",
    "ridge",
    "cairn",
    "tarn",
    "bunk",
    "warden",
    "path",
    "snow",
    "door",
    "latch",
    "wood",
    "map",
    "lamp",
    "kettle",
    "gate",
    "wall",
    "moss",
    "crag",
    "fell",
]


def prose(seed: int, words: int = 120) -> str:
    rng = random.Random(seed)
    return " ".join(rng.choice(WORDS) for _ in range(words))


def data(text: str) -> str:
    return f'<script type="application/ld+json">{text}</script>'


PASSWORD = '<form><input type="Password" name="p"></form>'
MARKED = [
    (html(data('{"@type": "Article"}')), "article"),
    (html(data('{"@graph": [{"@type": ["Thing", "https://schema.org/Product"]}]}')), "product"),
    (html(data('[{"@type": "Product"}, {"@type": "Product"}]')), "listing"),
    (html(data('{"@type": "CollectionPage", "mainEntity": {"@type": "Article"}}')), "listing"),
    (html(data('{"@type": "SearchResultsPage"}')), "search-results"),
    (html(data('{"@type": "ProfilePage"}')), "author-archive"),
    (html(data('{"@type": "BreadcrumbList"}')), "other"),
    (html(data('{"@type": "Article"')), "other"),
    (html(data("[" * 50_000)), "other"),
    (html('<meta property="og:type" content="article">'), "article"),
    (html('<meta property="og:type" content="website">'), "other"),
    (html(body=PASSWORD, title="Wardens"), "login"),
    (html(body=PASSWORD + f"<p>{prose(1)}</p>", title="Join us"), "other"),
    (html(body=f"<nav>{PASSWORD}</nav><p>{prose(1, 30)}</p>"), "other"),
    ("<p>A piece of a page", "template-fragment"),
    (html(title="Page not found"), "error"),
    (html(title="Lost and found"), "other"),
]  # fmt: skip


@pytest.mark.parametrize("order", ["source, target", "target, source", "hash(source * 7 + target)"])
def test_links_may_stand_in_any_order(order: str, tmp_path: Path) -> None:
    """Rows of one page stand together as audits write them; where they do not, they are put in order."""
    links = [(n, (n * m + 1) % 40) for n in range(0, 40, 3) for m in (1, 2, 5)]
    with SnapshotWriter(tmp_path / "s.indrel") as writer:
        writer.set_meta(source={"kind": "site", "location": HOST}, base=HOST + "/", crawlers=["*"])
        writer.add("address", [(n, HOST, f"/{n or ''}", True) for n in range(40)])
        writer.add("link", [(*pair, 0, 1, "") for pair in links])
        writer.commit()
        writer.con.execute(f"CREATE TEMP TABLE moved AS SELECT * FROM link ORDER BY {order}; DELETE FROM link")
        writer.con.execute("INSERT INTO link SELECT * FROM moved")
    with Snapshot(tmp_path / "s.indrel") as snapshot:
        graph = LinkGraph(Site(snapshot, resolve(("*",))))
    assert sorted(zip(graph.sources().tolist(), graph.target.tolist(), strict=True)) == sorted(links)
    of_page = {n: sorted(graph.target[graph.begin[n] : graph.end[n]].tolist()) for n in range(40)}
    assert of_page == {n: sorted(t for s, t in links if s == n) for n in range(40)}


def test_kinds_by_markup(audit_site: AuditSite) -> None:
    pages = {f"/x{n}": page for n, (page, _) in enumerate(MARKED)}
    site = audit_site({**BASE, "/": html(body=a(*pages)), **pages})[0]
    rows = {row.url.removeprefix(HOST): row for row in listed(site)}
    for path, (page, kind) in zip(pages, MARKED, strict=True):
        row = rows[path]
        assert row.kind == kind, page
        told = next((r.because for r in RULES if r.kind == kind and not r.address), "nothing shows its kind")
        assert row.kind_because == told or kind in ("article", "login", "feed")


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("/", "start"), ("/login", "login"), ("/a/login/b", "other"), ("/x/login.php?next=/", "login"), ("/cart/", "cart"),
        ("/cartography/", "other"), ("/checkout/guide", "other"), ("/search/node.html", "other"), ("/search?q=x", "search-results"),
        ("/d/x.pdf", "document"), ("/d/x.pdf/", "other"), ("/news/page/3?x=1", "numbered-page"), ("/tag/a.html", "tag-archive"),
        ("/tag/a.php", "other"),
        ("/a?utm_source=b", "parameter-variant"), ("/a?sorting=1", "other"), ("/?attachment_id=4", "attachment"),
        ("/product-category/hats/wool/", "category"), ("/2024/05/", "date-archive"), ("/2024/05/a-post/", "other"),
    ],
)  # fmt: skip
def test_kinds_by_address(path: str, kind: str) -> None:
    assert kind_of_address(HOST + path) == kind


@pytest.mark.parametrize(
    ("heading", "says"),
    [
        ("Page not found", True), ("404", True), ("Error 404 - Not Found", True), ("Sorry, we can't find that page", True),
        ("The page you were looking for does not exist", True), ("Seite nicht gefunden", True), ("Page introuvable", True),
        ("Oops! Something went wrong.", True), ("This product is no longer available", True), ("Nothing found", True),
        ("Lost and found", False), ("How we found the hut", False), ("Key not found? Ask the warden", False),
        ("Hut 404", False), ("Page 404", False), ("Error page 404", True), ("404 page", True), ("Huts", False), ("", False),
    ],
)  # fmt: skip
def test_error_wording(heading: str, says: bool) -> None:
    assert says_error(heading, 12) is says and not says_error(heading, 200)


NOT_FOUND = Response(html(title="Oh no", body=f"<nav>{a('/huts')}</nav><p>{prose(9, 30)} PATH</p>").encode())


def test_error_pages_in_disguise(audit_site: AuditSite) -> None:
    """Pages like the one that a made-up address gets are missing; short real pages are not."""
    missing = html(title="Oh no", body=f"<p>{prose(9, 40)}</p>")
    pages = {
        **BASE,
        "/": html(
            canonical("/"), a("/same", "/dated", "/short", "/says", "/tag/none", "/tag/cloud", "/tag/list", "/2026/")
        ),
        "/same": missing,
        "/dated": missing.replace("</p></body>", " today</p></body>"),
        "/short": html(title="Fees", body="<p>Eight pounds.</p>"),
        "/says": html(title="Page not found", body=f"<p>{prose(3, 100)}</p>"),
        "/tag/none": html(title="Stoves", body="<p>Nothing found.</p>"),
        "/tag/cloud": html(title="Cloud", body=f"<p>{prose(5, 100)}</p>" + a("/", "/tag/none", "/tag/list")),
        "/tag/list": html(title="List", body=f"<p>{prose(6, 100)}</p>" + a("/", "/tag/none", "/short")),
        "/2026/": html(title="2026", body=f"<p>{prose(7, 100)}</p>" + a("/2026/04/")),
        "/2026/04/": html(title="April", body=f"<p>{prose(8, 100)}</p>" + a("/short")),
    }
    site, verdict = audit_site(pages, Response(missing.encode()))
    soft = {f.url.removeprefix(HOST) for f in verdict.findings if f.check == "soft-missing"}
    assert soft == {"/same", "/dated"}
    assert {f.url for f in verdict.findings if f.check == "empty-archive-open"} == {
        HOST + "/tag/none",
        HOST + "/tag/cloud",
    }
    told = explain(site, HOST + "/same")
    assert told.states["*"] == "broken" and any("error page" in s.outcome for s in told.steps["*"])
    assert {f.check for f in verdict.findings} >= {"missing-answers-200"}


def test_a_shell_that_answers_everything_is_told_once(audit_site: AuditSite) -> None:
    shell = "<!doctype html><title>App</title><div id=app></div>"
    site, verdict = audit_site({"/": shell, "/robots.txt": robots(), "/a": shell}, Response(shell.encode()))
    assert (
        "soft-missing" not in {f.check for f in verdict.findings}
        and site.one("SELECT tail FROM fact WHERE start") == ""
    )


def test_sketches_tell_how_much_texts_share() -> None:
    text = prose(1, 300)
    one, same = fingerprint(text), fingerprint("\n ".join(text.split()))
    assert one == same and one.sketch and one.words == 300
    nearly, other = fingerprint(text + " added"), fingerprint(prose(2, 300))
    assert nearly.sketch and other.sketch and nearly.text_hash != one.text_hash
    assert alike(one.sketch, nearly.sketch)[0] > 0.9 and alike(one.sketch, other.sketch)[0] < 0.2
    turned = fingerprint(" ".join(reversed(text.split()))).sketch
    assert turned and alike(one.sketch, turned)[1] == 1 and alike(one.sketch, turned)[0] < 0.3
    assert fingerprint("three words only").sketch is None


def document(seed: int, title: str, more: str = "") -> str:
    return html(title=title, body=f"<h1>{title}</h1><p>{prose(seed, 200)} {more}</p>")


def test_twins(audit_site: AuditSite) -> None:
    """The same and nearly the same text, with one heading; documents from one template are no twins."""
    paths = [
        "/a",
        "/a-copy",
        "/b",
        "/b?print=1",
        "/t1",
        "/t2",
        "/f",
        "/f2",
        "/h",
        "/h2",
        "/x?lang=a",
        "/x?lang=b",
        "/folder-1/",
        "/folder-2/",
    ]
    pages = {
        **BASE, "/": html(canonical("/"), a(*paths)),
        "/a": document(1, "A"), "/a-copy": document(1, "A", "printed today"),
        "/b": document(2, "B"), "/b?print=1": document(2, "B"),
        "/t1": document(3, "Class One"), "/t2": document(3, "Class Two"),
        "/f": document(4, "F"), "/f2": document(4, "F").replace("<title>", canonical("/f") + "<title>"),
        "/h": document(5, "H"), "/h2": document(5, "H").replace("<title>", NOINDEX + "<title>"),
        "/x?lang=a": document(6, "X"), "/x?lang=b": document(6, "X"),
        **{f"/folder-{n}/": document(7, f"Index of /folder-{n}/") for n in (1, 2)},
    }  # fmt: skip
    _, verdict = audit_site(pages)
    twins = {
        f.url.removeprefix(HOST): (f.also[0].removeprefix(HOST), f.message)
        for f in verdict.findings
        if f.check == "twin-open"
    }
    assert {k: v[0] for k, v in twins.items()} == {"/a": "/a-copy", "/b": "/b?print=1", "/x?lang=a": "/x?lang=b"}
    assert (
        twins["/a"][1].startswith("Nearly")
        and "differ only in `print`" in twins["/b"][1]
        and "`lang`" in twins["/x?lang=a"][1]
    )


def test_navigation_is_no_content() -> None:
    def own(body: str) -> tuple[int | None, int | None]:
        facts = read_page(html(body=body).encode(), HOST + "/p", None, Joiner())
        return facts.text_hash, facts.own_links

    main = f"<main><p>{prose(1, 30)}</p>{a('/x')}</main>"
    assert own(main) == own(f"<header>Hello</header><nav>{a('/m', '/n')}</nav>{main}<footer>2026</footer>")
    assert own(main) != own(main.replace("stove", "oven")) and own(main)[1] == 1
    inside_out = f"<nav><aside><nav>{a('/m')}</nav></aside></nav><footer><nav>x</nav></footer>"
    assert own(main + inside_out) == own(main)
    assert own(f"<nav>{prose(2, 30)}</nav>")[0] is not None
    facts = read_page(
        html(body="<svg><style><script>x</script></style></svg><p>text").encode(), HOST + "/", None, Joiner()
    )
    assert facts.own_words and not facts.marks & Mark.FRAGMENT
    assert structured_data(['{"@type": "A", "dateModified": "2026-02-30x"}'], None) == ("|a|", None)


def test_clicks_and_link_weight(audit_site: AuditSite) -> None:
    """Reckoned by hand: the start page shares its weight among four, one of which hands it on."""
    pages = {
        **BASE,
        "/": html(canonical("/"), a("/open", "/hidden", "/old") + a("/unfollowed", rel="nofollow")),
        "/sitemap.xml": sitemap("/"),
        "/open": html(canonical("/open"), a("/deep")),
        "/deep": html(canonical("/deep"), a("/")),
        "/hidden": html(NOINDEX, a("/behind")),
        "/old": moved("/open"),
        "/unfollowed": html(canonical("/unfollowed"), a("/far")),
        "/far": html(canonical("/far"), a("/")),
        "/behind": html(canonical("/behind"), a("/")),
    }
    site, _ = audit_site(pages)
    clicks = link_graph(site).clicks(site.start_id or 0, 2)
    depth = {path: int(clicks[number]) for number, path in site.rows("SELECT id, path FROM fact WHERE known")}
    assert depth == {
        "/": 0,
        "/open": 1,
        "/hidden": 1,
        "/old": 1,
        "/deep": 2,
        "/behind": 2,
        "/unfollowed": -1,
        "/far": -1,
    }
    assert {r.url.removeprefix(HOST) for r in listed(site, Filters(unreached=True))} == {"/unfollowed", "/far"}
    flow = link_flow(site)
    assert flow and set(flow.fates) == {"unfollowed", "hidden"}
    assert flow.fates["unfollowed"] == pytest.approx(flow.fates["hidden"]) and 0.1 < flow.lost < 0.4
    assert flow.lost == pytest.approx(sum(flow.sections.values()), abs=1e-6) and set(flow.sections) == {"/*"}
    assert link_flow(audit_site({**BASE, "/": html()})[0]) is None


CHANGES = {
    "/barred/x": (html(), "edit https://www.sarnfell.example/robots.txt:2"),
    "/hidden": (html(NOINDEX), "edit https://www.sarnfell.example/hidden:2: remove the noindex"),
    "/header": (Response(html().encode(), headers=(("X-Robots-Tag", "noindex"),)), "the server's configuration for"),
    "/folded": (html(canonical("/open")), "edit https://www.sarnfell.example/folded:2: let the canonical point to"),
    "/moved": (moved("/open"), "remove the redirect"),
    "/refresh": (html('<meta http-equiv="refresh" content="0; url=/open">'), "refresh:2: remove the refresh"),
    "/gone": (Response(b"", 404), "redirect (301)"),
    "/locked": (Response(b"", 401), "return it without a login"),
    "/broken": (Response(b"", 502), "error log"),
    "/open": (html(canonical("/open")), '<meta name="robots" content="noindex">'),
    "/file.pdf": (Response(b"%PDF", media_type="application/pdf"), "send `X-Robots-Tag: noindex`"),
}


def test_explain_ends_in_what_to_edit(audit_site: AuditSite) -> None:
    pages = {**BASE, "/": html(body=a(*CHANGES)), "/robots.txt": robots("Disallow: /barred/")}
    site, verdict = audit_site({**pages, **{p: answer for p, (answer, _) in CHANGES.items()}})
    for path, (_, says) in CHANGES.items():
        step = explain(site, HOST + path, verdict.findings).steps["*"][-1]
        assert step.step == "change" and says in step.outcome, (path, step.outcome)
    assert explain(site, HOST + "/nowhere").steps["*"][-1].outcome.startswith("to know more")


def test_what_the_sitemaps_leave_out(audit_site: AuditSite) -> None:
    """An open, linked page is missing from the sitemap where most of its section and kind are in it; no fault by itself."""
    huts, faq = [f"/huts/{n}" for n in "abcdefg"], ["/faq/a", "/faq/b"]
    pages = {p: html(canonical(p), f"<p>{prose(n, 30)}</p>") for n, p in enumerate([*huts, *faq])}
    pages |= {**BASE, "/": html(canonical("/"), a(*huts, *faq, "/huts/hidden", "/huts/a/2")), "/huts/hidden": html(NOINDEX),
              "/huts/a/2": html(canonical("/huts/a/2"), f"<p>{prose(99, 30)}</p>")}  # fmt: skip
    for listed_ones, missing in ((huts[:5], huts[5:]), (huts[:3], []), ([*huts, "/faq/a"], [])):
        site, verdict = audit_site(pages | {"/sitemap.xml": sitemap("/", *listed_ones)})
        assert {r.url.removeprefix(HOST) for r in listed(site, Filters(left_out=True))} == set(missing)
        assert left_out(site) == ([("/huts/*", 2)] if missing else [])
        assert any("/huts/* 2" in note for note in verdict.notes) is bool(missing)
        assert not any(missing_one in f.url for f in verdict.findings for missing_one in missing)


@given(st.text(st.sampled_from("abZ 09_-.\u00a0\u201c\u0130\u00df\u0301\u2160\u00b2\t\n\x00\ud800éжわ"), max_size=40))
def test_words_are_those_of_the_expression(text: str) -> None:
    found = re.findall(r"\w+", text.lower())
    assert words_of(text.lower()) == [word.encode() for word in found]


@pytest.mark.parametrize(
    ("markup", "runs"),
    [
        ("<p>on the hill = up, one</p>", False),
        ("<p>only = this</p>", False),
        ('<p ONCLICK="x()">', True),
        ('<a href="JavaScript:x()">', True),
    ],
)
def test_handlers_are_scripts(markup: str, runs: bool) -> None:
    assert (read_page(markup.encode(), HOST + "/", None, Joiner()).scripts is not None) is runs


def test_a_section_may_have_an_error_page_of_its_own(audit_site: AuditSite) -> None:
    """Where a made-up address in a section gets a page, pages that are that page are missing: unless most of them are."""
    nothing = html(body=f"<p>{prose(9, 40)}</p>", title="Questions")
    made_up = "/faq" + made_up_path("www.sarnfell.example")
    real = {f"/faq/{n}": html(canonical(f"/faq/{n}"), f"<p>{prose(n, 40)}</p>") for n in range(9)}
    olds = {"/faq/old", "/faq/older"}
    tried: list[tuple[list[str], set[str]]] = [
        (sorted(olds), olds),
        (["/faq/index.html"], set()),  # the section's first page may stand in for the others
        (["/faq/index.html", "/faq/old"], set()),
        ([f"/faq/s{n}" for n in range(12)], set()),
    ]
    for shells, found in tried:
        pages = {**BASE, "/": html(canonical("/"), a(*real, *shells)), **real, **dict.fromkeys(shells, nothing)}
        _, verdict = audit_site({**pages, made_up: nothing})
        soft = [f for f in verdict.findings if f.check == "soft-missing"]
        assert {f.url.removeprefix(HOST) for f in soft} == found
        assert all(f.evidence[-1].where == HOST + made_up for f in soft)
        assert not any(f.check == "missing-answers-200" or made_up in f.url for f in verdict.findings)


def test_a_listed_address_that_leads_to_a_login_is_to_be_taken_out(audit_site: AuditSite) -> None:
    """Listing where it leads, as is right for a page that has moved, would put the login forward."""
    pages = {**BASE, "/sitemap.xml": sitemap("/", "/members", "/old"), "/": html(a("/old")), "/old": moved("/new"), "/new": html(),
             "/members": moved("/login?x=1"), "/login?x=1": html(body="<form><input type=password></form>")}  # fmt: skip
    told = {f.url.removeprefix(HOST): f.advice for f in audit_site(pages)[1].findings if f.check == "listed-redirects"}
    assert told == {"/old": "List the URL that it leads to instead.", "/members": "Remove the entry from the sitemap."}
