"""Sites of other worlds: feeds, builds with a wrong setting, variants of the host, apps behind `#`."""

from __future__ import annotations

from cases import GONE, HOST, NOINDEX, TO, XMLNS, a, html, robots, sitemap
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
    assert "6 of 6 links on the home page point to localhost:8000" in verdict.headline.sentence and verdict.headline.whole
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
    _, verdict = audit_site({"/robots.txt": robots(), "/": html(body=a(*old)), "/prices": TO} | dict.fromkeys(old, merged))
    found = [f for f in verdict.findings if f.check == "gone-to-start"]
    assert len(found) == 5 and {f.severity.word for f in found} == {"ask"}
