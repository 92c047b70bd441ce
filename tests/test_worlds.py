"""Sites of other worlds: feeds, builds with a wrong setting, variants of the host, apps behind `#`."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from cases import GONE, HOST, NOINDEX, TO, XMLNS, a, canonical, html, robots, sitemap
from conftest import AuditSite
from indrel.demo.site import Response

FEED = (
    "<feed xmlns='http://www.w3.org/2005/Atom'><title>News</title>"
    + "".join(f"<entry><title>{p}</title><link href='{HOST}{p}'/></entry>" for p in ("/hidden", "/gone", "/private/a"))
    + "</feed>"
)


def atom(media_type: str) -> Response:
    return Response(FEED.encode(), media_type=media_type)


def test_a_linked_feed_is_no_sitemap(audit_site: AuditSite) -> None:
    """Its entries are not wanted, whatever their state and the feed's content type; one that robots.txt names is a sitemap."""
    pages = {
        "/robots.txt": robots("Disallow: /private/"),
        "/": html(body=a("/feed.xml", "/atom.xml", "/hidden")),
        "/feed.xml": atom("application/xml"),
        "/atom.xml": atom("application/atom+xml"),
        "/hidden": html(NOINDEX),
        "/gone": GONE,
    }
    site, verdict = audit_site(pages)
    assert not verdict.crashed and verdict.headline.wanted == 1
    assert not [f for f in verdict.findings if f.check.startswith("listed-")]
    assert site.one("SELECT count(*) FROM sitemap") == site.one("SELECT count(*) FROM entry") == 0
    _, verdict = audit_site({**pages, "/robots.txt": robots("Disallow: /private/", f"Sitemap: {HOST}/feed.xml")})
    assert {f.check for f in verdict.findings} >= {"listed-hidden", "listed-gone", "listed-barred"}


def test_a_linked_sitemap_is_one_and_a_broken_one_leaves_nothing(audit_site: AuditSite) -> None:
    pages = {"/robots.txt": robots(), "/": html(body=a("/map.xml")), "/a": TO, "/map.xml": sitemap("/a")}
    site, _ = audit_site(pages)
    assert site.rows("SELECT via FROM sitemap") == [("linked",)] and site.one("SELECT count(*) FROM entry") == 1
    site, verdict = audit_site({**pages, "/map.xml": f"<urlset {XMLNS}><url><loc>{HOST}/a</loc></url><url>"})
    assert site.one("SELECT count(*) FROM sitemap") == site.one("SELECT count(*) FROM entry") == 0
    assert not verdict.crashed


def test_a_crawl_that_ends_at_the_home_page_says_so_first(audit_site: AuditSite) -> None:
    local = a(*(f"http://localhost:8000/{n}/" for n in range(6)))
    _, verdict = audit_site({"/robots.txt": robots(), "/": html(body=local)})
    assert (
        "6 of 6 links on the home page point to localhost:8000" in verdict.headline.sentence and verdict.headline.whole
    )
    _, verdict = audit_site({"/robots.txt": robots(), "/": html(body=a("https://other.test/", "https://other.test/b"))})
    assert verdict.notes[0].startswith("the crawl ended at the home page: all 2 links on it lead to other sites")
    assert "links-to-closed-host" not in {f.check for f in verdict.findings}
    _, verdict = audit_site({"/robots.txt": robots(), "/": html(body=a("/a", "https://other.test/")), "/a": TO})
    assert not any("crawl ended" in note for note in verdict.notes)


def test_pages_of_two_host_variants_are_one_edit(audit_site: AuditSite) -> None:
    """The home page that both variants serve leads; pages of both that were read are explained by it."""
    text = "<p>The huts stand above the tarns and are open to walkers all year round.</p>"
    page = html(body=text + a("http://www.sarnfell.example/a", "/a"))
    pages = {"/robots.txt": robots(), "/": page, "http://www.sarnfell.example/": page}
    pages |= {"/a": html(body=text * 2, title="A"), "http://www.sarnfell.example/a": html(body=text * 2, title="A")}
    _, verdict = audit_site(pages)
    leader = next(c for c in verdict.causes if c.check == "host-variants-serve")
    twins = [c for c in verdict.consequences if c.check == "twin-open"]
    assert twins and {c.follows for c in twins} == {leader.id} and "twin-open" not in {c.check for c in verdict.causes}


def test_redirects_to_the_home_page_on_purpose(audit_site: AuditSite) -> None:
    """Names of the home page, logins and a few pages may lead there; pages merged into one are asked about."""
    home = ("/index.html", "/home", "/start/", "/en/", "/de/", "/index.php", "/default.aspx")
    moved = Response(b"", 301, "text/plain", (("Location", "/"),))
    pages = {"/robots.txt": robots(), "/": html(body=a(*home, "/logout", "/tarn", "/cairn"))}
    pages |= dict.fromkeys((*home, "/logout", "/tarn", "/cairn"), moved)
    _, verdict = audit_site(pages)
    assert "gone-to-start" not in {f.check for f in verdict.findings}
    merged = Response(b"", 301, "text/plain", (("Location", "/prices"),))
    old = tuple(f"/{n}" for n in ("tarn", "cairn", "ledge", "gully", "beacon"))
    _, verdict = audit_site(
        {"/robots.txt": robots(), "/": html(body=a(*old)), "/prices": TO} | dict.fromkeys(old, merged)
    )
    found = [f for f in verdict.findings if f.check == "gone-to-start"]
    assert len(found) == 5 and {f.severity.word for f in found} == {"ask"}


def wiki(**views: str) -> dict[str, Any]:
    """A wiki of six pages, each with a history, a form to edit it and its revisions; `views` are put into their heads."""
    names = ("tarn", "cairn", "ledge", "gully", "beacon", "bothy")
    pages: dict[str, Any] = {"/robots.txt": robots(), "/": html(body=a(*(f"/{n}" for n in names)), title="Start")}
    for name in names:
        text = f"<p>All that the wardens know of the {name}, from its name to the way that leads there in winter.</p>"
        rel = views.get("rel", "")
        pages[f"/{name}"] = html(
            canonical(f"/{name}"), text + a(f"/{name}/history", f"/{name}?action=edit", rel=rel), title=name
        )
        head = views.get("head", "").format(name)
        pages[f"/{name}/history"] = html(
            head, a(f"/{name}/history/3", f"/{name}/history/2"), title=f"History of {name}"
        )
        pages[f"/{name}?action=edit"] = html(head, "<textarea></textarea>", title=f"Edit {name}")
        for number in (2, 3):
            pages[f"/{name}/history/{number}"] = html(head, text.replace("All", "Nearly all") * number, title=name)
    return pages


def test_views_of_a_wiki_are_no_pages(audit_site: AuditSite) -> None:
    """Histories, forms and revisions are one cause each, and no draft lists them."""
    site, verdict = audit_site(wiki())
    found = {f.message for f in verdict.findings if f.check == "copies-open"}
    assert found == {
        "18 views of pages with `/history` can be indexed.",
        "6 views of pages with `action=edit` can be indexed.",
    }
    assert not [c for c in verdict.causes if c.severity.word in ("stop", "fix")]
    assert dict(site.rows("SELECT kind, count(*) FROM fact WHERE html GROUP BY kind")) == {
        "page-copy": 24,
        "other": 6,
        "start": 1,
    }


@pytest.mark.parametrize("head", ["<meta name=robots content=noindex>", canonical("/{}")])
def test_a_healthy_wiki_is_quiet(head: str, audit_site: AuditSite) -> None:
    _, verdict = audit_site(wiki(head=head, rel="nofollow"))
    assert not [f for f in verdict.findings if f.severity.word in ("stop", "fix")]
    assert "copies-open" not in {f.check for f in verdict.findings}


def test_a_page_called_history_is_a_page(audit_site: AuditSite) -> None:
    names = ("huts", "routes", "trust", "wardens")
    pages: dict[str, Any] = {"/robots.txt": robots(), "/": html(body=a(*(f"/{n}/" for n in names)), title="Start")}
    for name in names:
        pages[f"/{name}/"] = html(body=a(f"/{name}/history", f"/{name}/info"), title=name)
        pages[f"/{name}/history"] = html(title=f"How the {name} began")
        pages[f"/{name}/info"] = html(title=f"All about the {name}")
    site, _ = audit_site(pages)
    assert not site.rows("SELECT path FROM fact WHERE kind = 'page-copy'")


def listing_of(path: Callable[[int], str], number: int, most: int = 5) -> str:
    beside = [path(n) for n in (number - 1, number + 1) if 1 <= n <= most]
    entries = a(*(f"/news/{number}-{n}-snow" for n in "abc"))
    return html(body="<h1>News</h1>" + entries + a(*(b.replace("&", "&amp;") for b in beside)), title="News")


@pytest.mark.parametrize(
    "path",
    [
        lambda n: "/list" if n == 1 else f"/list?p={n}",
        lambda n: "/list" if n == 1 else f"/list?seite={n}",
        lambda n: "/list?of=huts" if n == 1 else f"/list?of=huts&start={(n - 1) * 20}",
        lambda n: "/list/" if n == 1 else f"/list/?offset={(n - 1) * 10}",
        lambda n: "/list/" if n == 1 else f"/list/{n}.html",
        lambda n: "/list.html" if n == 1 else f"/list-{n}.html",
        lambda n: "/list/" if n == 1 else f"/list/page-{n}.html",
        lambda n: "/list/" if n == 1 else f"/list/pg/{n}/",
    ],
    ids=["p", "seite", "start", "offset", "name", "list-2", "page-2", "folder"],
)
def test_parts_of_a_list_are_known_by_their_series(path: Callable[[int], str], audit_site: AuditSite) -> None:
    pages: dict[str, Any] = {"/robots.txt": robots(), "/": html(body=a(path(1).replace("&", "&amp;")), title="Start")}
    pages |= {path(n): listing_of(path, n) for n in range(1, 6)}
    site, _ = audit_site(pages)
    found = {f for (f,) in site.rows("SELECT path FROM fact WHERE kind = 'numbered-page'")}
    assert found == {path(n) for n in range(2, 6)}


def test_chapters_and_numbered_documents_are_no_parts(audit_site: AuditSite) -> None:
    pages: dict[str, Any] = {"/robots.txt": robots(), "/": html(body=a("/book/", "/hut"), title="Start")}
    chapters = [f"/book/chapter-{n}.html" for n in range(1, 6)]
    pages["/book/"] = html(body="<h1>The book of huts</h1>" + a(*chapters), title="Book")
    for n, path in enumerate(chapters, 1):
        pages[path] = html(
            body=f"<h1>The book of huts</h1><p>Chapter {n} tells of hut {n}.</p>" + a(*chapters), title="Book"
        )
    pages["/hut"] = html(body="<h1>Huts</h1>" + a(*(f"/hut/{n}" for n in range(2, 6))), title="Huts")
    pages |= {f"/hut/{n}": html(body=f"<h1>Hut of the {n} winds</h1>", title=f"Hut {n}") for n in range(2, 6)}
    site, _ = audit_site(pages)
    assert not site.rows("SELECT path FROM fact WHERE kind = 'numbered-page'")


def test_every_group_of_robots_txt_is_judged(audit_site: AuditSite) -> None:
    """A group for a crawler that is not audited loses the rules of `*` too; its crawlers are named."""
    lines = (
        "Disallow: /cart",
        "User-agent: GPTBot",
        "User-agent: CCBot",
        "Disallow: /tarn",
        "User-agent: AdsBot-Google",
        "Allow: /",
    )
    pages = {"/robots.txt": robots(*lines), "/": html(body=a("/cart/1", "/tarn")), "/cart/1": TO, "/tarn": TO}
    _, verdict = audit_site(pages)
    found = [f for f in verdict.findings if f.check == "robots-group-replaces-all"]
    assert [(f.crawlers, f.message) for f in found] == [
        (("gptbot", "ccbot"), "The group for gptbot and ccbot lacks `Disallow: /cart`, which opens 1 known URL to it.")
    ]
    assert found[0].also == (f"{HOST}/cart/1",)


def test_who_vouches_for_entries(audit_site: AuditSite) -> None:
    """A name vouches for hosts, not for schemes; a host whose robots.txt cannot be read vouches for nothing."""
    secure, plain = f"{HOST}/a", f"http{HOST[5:]}/b"
    listed = f"<urlset {XMLNS}><url><loc>{secure}</loc></url>\n<url><loc>{plain}</loc></url>\n<url><loc>https://other.test/c</loc></url></urlset>"
    pages = {
        "/robots.txt": robots(f"Sitemap: {HOST}/sitemap.xml"),
        "/": html(body=a("/a", "/gone")),
        "/a": TO,
        "/sitemap.xml": listed,
    }
    pages |= {"/gone": Response(b"", 301, "text/plain", (("Location", "https://other.test/c"),))}
    _, verdict = audit_site(pages | {"https://other.test/robots.txt": Response(b"", 503)})
    found = {f.url: f.message for f in verdict.findings if f.check == "sitemap-foreign"}
    assert set(found) == {plain, "https://other.test/c"} and "another scheme" in found[plain]
    named = f"User-agent: *\nSitemap: {HOST}/sitemap.xml\n"
    _, verdict = audit_site(pages | {"https://other.test/robots.txt": named, "https://other.test/c": TO})
    assert {f.url for f in verdict.findings if f.check == "sitemap-foreign"} == {plain}


def test_some_files_of_an_index_on_another_host(audit_site: AuditSite) -> None:
    files = (f"{HOST}/one.xml", "https://staging.test/two.xml")
    index = (
        f"<sitemapindex {XMLNS}>" + "".join(f"<sitemap><loc>{f}</loc></sitemap>\n" for f in files) + "</sitemapindex>"
    )
    pages = {
        "/robots.txt": robots(f"Sitemap: {HOST}/sitemap.xml"),
        "/": html(),
        "/sitemap.xml": index,
        "/one.xml": sitemap("/"),
    }
    _, verdict = audit_site(pages)
    found = [f for f in verdict.findings if f.check == "sitemap-index-elsewhere"]
    assert (
        found[0].message.startswith("1 of 2 sitemaps in the index is on another host.") and found[0].also == files[1:]
    )


@pytest.mark.parametrize("start", ["/shop/", "/"])
def test_rules_for_another_base_path(start: str, audit_site: AuditSite) -> None:
    """Rules for `/` on a site below `/shop/`; rules that would block wanted pages are not simply written as they were meant."""
    pages = {"/robots.txt": robots("Disallow: /cart", "Disallow: /search", "Disallow: /nothing/"), "/": GONE}
    pages |= {
        f"/shop{path}": html(body=a("/shop/cart/1", "/shop/search?q=x", "/shop/tarn"), title=path)
        for path in ("/", "/tarn")
    }
    pages |= {"/shop/cart/1": TO, "/shop/search?q=x": TO}
    if start == "/":
        pages |= {"/": html(body=a("/shop/", "/news", "/huts")), "/news": TO, "/huts": TO}
    _, verdict = audit_site(pages, start=start)
    found = [c for c in verdict.causes if c.check == "robots-wrong-base"]
    if start == "/":
        assert not found  # the site is more than the shop
        return
    assert (
        found[0].findings[0].message == "2 rules match nothing: the paths lack the folder /shop/ that the site is in."
    )
    assert (
        found[0].mend == "Write: `Disallow: /shop/cart`; `Disallow: /shop/search`." and "2 known URLs" in found[0].proof
    )
    wanted = {**pages, "/shop/sitemap.xml": sitemap("/shop/cart/1")}
    _, verdict = audit_site(wanted, start=start)
    assert "would also block 1 wanted page" in next(c for c in verdict.causes if c.check == "robots-wrong-base").mend
