"""Sites of other worlds: feeds, builds with a wrong setting, variants of the host, apps behind `#`."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from cases import BASE, GONE, HOST, NOINDEX, TO, XMLNS, a, canonical, html, robots, sitemap
from conftest import AuditSite
from indrel.ask import intent
from indrel.ask.drafts import robots as robots_draft
from indrel.ask.drafts import sitemap as sitemap_draft
from indrel.ask.explain import explain
from indrel.ask.explanation import Explanation
from indrel.demo.site import Response
from test_program import Run, write_site

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


def test_a_number_that_belongs_to_a_name_is_no_part(audit_site: AuditSite) -> None:
    """`http2` is another subject than `http`, and a canonical on another site is no page 1."""
    pages: dict[str, Any] = {
        "/robots.txt": robots(),
        "/": html(body=a("/http.html", "/http2.html", "/tls", "/tls-2"), title="Start"),
    }
    for path, name in (("/http.html", "HTTP"), ("/http2.html", "HTTP/2"), ("/tls", "TLS"), ("/tls-2", "TLS 2")):
        there = f'<link rel="canonical" href="https://other.test{path}">'
        pages[path] = html(there, f"<h1>{name}</h1>" + a("/http.html", "/http2.html", "/tls", "/tls-2"), name)
    site, verdict = audit_site(pages)
    assert not site.rows("SELECT path FROM fact WHERE kind = 'numbered-page'")
    assert "canonical-first-page" not in {f.check for f in verdict.findings}


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


def test_print_copies_are_duplicates(audit_site: AuditSite) -> None:
    """A print copy has the page's text and its links, without the menus, and a line of its own; documents of one template are none."""
    names = ("tarn", "cairn", "ledge", "gully", "beacon", "bothy")
    menu = a(*(f"/{n}" for n in names), "/map", "/shop", "/trust")
    pages: dict[str, Any] = {"/robots.txt": robots(), "/": html(body=menu, title="Start")}
    for n, name in enumerate(names):
        ways = [
            f"<p>In {month} the {name} is reached by the {WAYS[(n + m) % 7]} way.</p>" for m, month in enumerate(MONTHS)
        ]
        text = f"<h1>{name}</h1>" + "".join(ways)
        own = text + a(f"/map/{name}", f"/gear/{name}", f"/warden/{name}")
        pages[f"/{name}"] = html(body=f"<nav>{menu}</nav><main>{own}</main>" + a(f"/{name}/print"), title=name)
        pages[f"/{name}/print"] = html(body=f"<main>{own}<p>Printed.</p></main>", title=name)
    _, verdict = audit_site(pages)
    found = [c for c in verdict.causes if c.check == "twin-open"]
    assert [c.relation for c in found] == ["part +print"] and found[0].count >= 5


MONTHS = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)
WAYS = ("upper", "lower", "old", "new", "north", "south", "long")


# ---------------------------------------------------------------- apps and static hosts

PROSE = "<p>The huts stand above the tarns and are open to walkers all year, and wardens sleep there in summer and autumn too.</p>"
SHELL = '<!doctype html><html><head><title>Huts</title><script src="/app.js" defer></script></head><body><div id=app></div></body></html>'


def test_the_home_page_for_every_url(audit_site: AuditSite) -> None:
    """A fallback that returns the home page's own text: what else has that text is missing."""
    links = "".join(f'<a href="{path}">more</a>' for path in ("/huts", "/gone", "/index.html"))
    home = html(body=PROSE + links, title="Start")
    pages = {"/robots.txt": robots(), "/": home, "/index.html": home, "/huts": html(body=PROSE * 2, title="Huts")}
    site, verdict = audit_site(pages, missing=Response(home.encode(), media_type="text/html"))
    assert dict(site.rows("SELECT path, tail FROM fact WHERE known")) == {
        "/": "", "/huts": "", "/gone": "broken", "/index.html": "",
    }  # fmt: skip
    assert [f.url for f in verdict.findings if f.check == "soft-missing"] == [f"{HOST}/gone"]


def test_a_shell_for_every_url(audit_site: AuditSite) -> None:
    """As served, it tells nothing; rendered, what the URL that cannot exist shows tells which pages are missing."""
    app = f"""const views = {{"/": "{PROSE}<a href=/huts>1</a><a href=/gone>2</a>", "/huts": "{PROSE}{PROSE}"}};
        document.getElementById("app").innerHTML = views[location.pathname] || "<h1>Lost</h1><p>We looked in every hut.</p>";
        """
    shell = Response(SHELL.encode(), media_type="text/html")
    pages = {"/robots.txt": robots(), "/": SHELL, "/app.js": Response(app.encode(), media_type="text/javascript")}
    pages |= {"/sitemap.xml": sitemap("/", "/huts", "/gone")}
    site, verdict = audit_site(pages, missing=shell)
    assert "soft-missing" in {s.check for s in verdict.skipped} and "script-only" in {f.check for f in verdict.findings}
    assert not site.rows("SELECT path FROM fact WHERE tail = 'broken'")
    site, verdict = audit_site(pages, missing=shell, render="all")
    assert site.rows("SELECT path FROM fact WHERE tail = 'broken'") == [("/gone",)]
    assert "soft-missing" not in {s.check for s in verdict.skipped}


def states(indrel: Run, folder: Path, files: dict[str, str], *options: str) -> tuple[dict[str, str], dict[str, Any]]:
    """The state of each URL of a built folder by its path, and the audit's report."""
    write_site(folder / "build", files)
    done = indrel("audit", "build", "--base", HOST, "--save", "s.indrel", "--json", "--fail-on=never", *options, code=0)
    rows = [json.loads(line) for line in indrel("list", "--from", "s.indrel", "--json").stdout.splitlines()]
    return {row["url"].removeprefix(HOST): row["states"]["*"] for row in rows}, json.loads(done.stdout)


SLASHLESS = {
    "index.html": html(canonical("/"), a(*(f"/{n}" for n in "abcdef")), "Start"),
    **{f"{n}/index.html": html(canonical(f"/{n}"), PROSE.replace("huts", n), n) for n in "abcdef"},
    "sitemap.xml": sitemap("/", *(f"/{n}" for n in "abcdef")),
    "robots.txt": robots("Disallow:", f"Sitemap: {HOST}/sitemap.xml"),
}


def test_a_build_without_the_slash_that_the_server_adds(indrel: Run, tmp_path: Path) -> None:
    """One cause at the server or the generator's setting; nothing where the server puts pages at the names that they have."""
    found, report = states(indrel, tmp_path, SLASHLESS)
    assert {found[f"/{n}"] for n in "abcdef"} == {found[f"/{n}/"] for n in "abcdef"} == {"folded"}
    loud = [c for c in report["causes"] if c["severity"] in ("stop", "fix", "ask") and not c["follows"]]
    assert [(c["check"], c["relation"]) for c in loud] == [("canonical-to-redirect", "slash -/")]
    assert report["verdict"]["lost"] == 6 and report["verdict"]["wanted"] == 7
    assert "assumed of the server: x/index.html is at /x/, and /x redirects there (--host-style)" in report["notes"]
    found, report = states(indrel, tmp_path, SLASHLESS, "--host-style", "no-slash")
    assert set(found.values()) == {"open"} and not [c for c in report["causes"] if c["severity"] != "note"]
    found, _ = states(indrel, tmp_path, SLASHLESS, "--host-style=html")
    assert found["/a"] == "gone" and found["/a/index.html"] == "folded"
    assert (
        "--host-style nice: write one of slash, no-slash, html"
        in indrel("audit", "build", "--host-style=nice", code=2).stderr
    )


def test_the_folder_of_an_app(indrel: Run, tmp_path: Path) -> None:
    """A fallback serves what has no file; a link to a file is that file; error pages are no pages of the site."""
    links = a("/huts", "/huts/42", "/a.py", "/no.js", "/empty")
    files = {
        "index.html": html(canonical("/"), PROSE + links, "Start"), "huts.html": html(canonical("/huts"), PROSE * 2, "Huts"),
        "200.html": SHELL, "404.html": html(canonical("/404"), "<h1>Not found</h1>", "404"), "a.py": "x", "a.py.html": html(NOINDEX),
        "empty/x.txt": "",
    }  # fmt: skip
    found, report = states(indrel, tmp_path, files)
    assert found == {
        "/": "open", "/huts": "open", "/huts/42": "open", "/a.py": "open", "/a.py.html": "hidden", "/no.js": "gone", "/empty": "open",
    }  # fmt: skip
    assert any("200.html is returned for" in note for note in report["notes"])
    (tmp_path / "build" / "200.html").unlink()
    found, _ = states(indrel, tmp_path, {n: t for n, t in files.items() if n != "200.html"})
    assert {path for path, state in found.items() if state == "gone"} == {"/huts/42", "/no.js", "/empty"}
    found, _ = states(indrel, tmp_path, {n: t for n, t in files.items() if n != "200.html"}, "--fallback=404.html")
    assert found["/huts/42"] == "folded"


def test_a_lone_shell_is_an_app(indrel: Run, tmp_path: Path) -> None:
    files = {"index.html": SHELL, "sitemap.xml": sitemap("/", "/huts", "/huts/42"), "robots.txt": robots("Disallow:")}
    found, report = states(indrel, tmp_path, files)
    assert set(found.values()) == {"open"} and "script-only" in {f["check"] for f in report["findings"]}


def test_a_build_says_itself_what_redirects_and_which_headers_are_sent(indrel: Run, tmp_path: Path) -> None:
    files = {
        "index.html": html(canonical("/"), a("/old", "/blog/2025/a", "/app/x", "/out", "/drop", "/price.pdf"), "Start"),
        "price.pdf": "%PDF-1.4",
        "new.html": html(title="New"), "posts/a.html": html(title="A"), "app.html": html(title="App"),
        "_redirects": "# moved\n/old /new.html\n/blog/:year/* /posts/:splat.html 302\n/app/* /app.html 200\n"
        "/out https://other.test/\n/drop /x 410\n",
        "_headers": "/app/*\n  X-Robots-Tag: noindex\n/new\n  X-Robots-Tag: nofollow\n/new.html\n  X-Robots-Tag: noindex\n"
        "/*.pdf\n  X-Robots-Tag: noindex\n",
    }  # fmt: skip
    found, report = states(indrel, tmp_path, files, "--host-style=html")
    assert {path: state for path, state in found.items() if state != "open"} == {
        "/old": "folded", "/blog/2025/a": "folded", "/app/x": "hidden", "/out": "folded", "/drop": "gone", "/new.html": "hidden",
        "/price.pdf": "hidden",
    }  # fmt: skip
    assert "taken from _redirects and _headers in the folder: redirects and headers" in report["notes"]


def test_links_without_the_base_of_a_project(indrel: Run, tmp_path: Path) -> None:
    """Canonicals and sitemap name the folder that the site is in, links do not: one cause, and no hint that the base is wrong."""
    names = ("huts", "routes", "news", "book", "map", "wardens")
    files = {f"{n}.html": html(canonical(f"/trust/{n}.html"), a(*(f"/{m}.html" for m in names)), n) for n in names}
    files |= {"index.html": html(canonical("/trust/"), a(*(f"/{m}.html" for m in names)), "Start")}
    files |= {"sitemap.xml": sitemap("/trust/", *(f"/trust/{n}.html" for n in names))}
    write_site(tmp_path / "build", files)
    report = json.loads(indrel("audit", "build", "--json", "--fail-on=never", code=0).stdout)
    found = [c for c in report["causes"] if c["check"] == "link-outside-base"]
    assert len(found) == 1 and found[0]["count"] == 6 and found[0]["instead"].startswith('<a href="/trust/')
    assert not any("--base" in note for note in report["notes"])


def steps_of(
    audit_site: AuditSite, pages: dict[str, Any], path: str, **options: Any
) -> tuple[Explanation, dict[str, str]]:
    """The explanation of a URL, and what the last crawler's steps say."""
    site, verdict = audit_site({"/robots.txt": robots("Disallow: /cart"), **pages}, **options)
    found = explain(site, HOST + path, verdict.findings)
    return found, {step.step: step.outcome for step in found.steps["*"]}


def test_what_explain_says_of_files_and_of_pages_that_lead_on(audit_site: AuditSite) -> None:
    refresh = html('<meta http-equiv="refresh" content="0; url=/b">' + canonical("/a"))
    pages = {
        "/": html(body=a("/a", "/news.atom", "/b")),
        "/a": refresh,
        "/b": TO,
        "/news.atom": atom("application/atom+xml"),
    }
    pages |= {"/sitemap.xml": sitemap("/", "/b")}
    _, said = steps_of(audit_site, pages, "/a")
    assert said["canonical"] == f"does not count here: the page leads to {HOST}/b at once, whose canonical counts"
    for path, what in {
        "/sitemap.xml": "a sitemap with 2 entries",
        "/robots.txt": "robots.txt with 1 rule in 1 group",
        "/news.atom": "a feed: its entries are not read, because nothing names it as a sitemap",
    }.items():
        found, said = steps_of(audit_site, pages, path)
        assert found.file == what and what in said["answer"], path


def test_what_explain_says_of_requests_under_a_name_and_of_scripts(audit_site: AuditSite) -> None:
    """The steps say what the findings say."""
    script = "<script>document.querySelector('[name=robots]').content = 'noindex'</script>"
    pages = {"/": html(body=a("/a")), "/a": html('<meta name="robots" content="all">', PROSE + script)}
    _, said = steps_of(audit_site, pages, "/a", render="all")
    assert said["rendered"] == "its scripts leave 1 other tag than the ones served"
    pages["as bingbot /a"] = html(NOINDEX, PROSE)
    found, _ = steps_of(audit_site, pages, "/a", as_crawlers=True)
    said = {step.step: step.outcome for step in found.steps["bingbot"]}
    assert (
        said["as crawler"].startswith("requested under its name, it differs in robots: ")
        and "noindex" in said["as crawler"]
    )


def test_a_url_that_a_script_replaces_leads_there(audit_site: AuditSite) -> None:
    """What routers do on a redirect; a step that is added to the history leads nowhere."""
    pages = {"/": html(body=a("/a", "/b", "/c")), "/c": html(body=PROSE)}
    pages |= {
        f"/{n}": html(body=PROSE + f"<script>history.{m}State(null, '', '/c')</script>")
        for n, m in (("a", "replace"), ("b", "push"))
    }
    site, verdict = audit_site({"/robots.txt": robots(), **pages}, render="all")
    assert [f.url for f in verdict.findings if f.check == "script-leads-away"] == [f"{HOST}/a"]
    assert dict(site.rows("SELECT path, fold_how FROM fact WHERE fold_how IS NOT NULL AND known")) == {"/a": "script"}


def test_anchors_that_scripts_make_are_judged(audit_site: AuditSite) -> None:
    made = """m.innerHTML = '<nav><a href="javascript:go()">1</a><a href="#/huts">2</a><a href="#/map">3</a></nav>'"""
    pages = {"/robots.txt": robots(), "/": html(body=f"<main id=m></main><script>{made}</script>")}
    _, verdict = audit_site(pages, render="all")
    assert "hash-routes" in {f.check for f in verdict.findings}


# ---------------------------------------------------------------- drafts

HUTS = {f"/huts/{n}": html(PROSE.replace("huts", n), title=n) for n in ("tarn", "cairn", "ledge")}


@pytest.mark.parametrize("whole", ["site-noindex", "site-barred"])
def test_a_first_intent_file_under_a_site_wide_problem(whole: str, audit_site: AuditSite) -> None:
    """What the whole site is in says nothing of what is wanted; a kind that one URL has is no entry."""
    pages = {"/": html(body=a(*HUTS, "/login")), "/login": html(body="<input type=password>"), **HUTS}
    if whole == "site-noindex":
        pages = {path: Response(page.encode(), headers=(("X-Robots-Tag", "noindex"),)) for path, page in pages.items()}
    rules = robots("Disallow: /") if whole == "site-barred" else robots("Disallow:")
    site, verdict = audit_site({"/robots.txt": rules, **pages}, also=tuple(HUTS))
    assert whole in {f.check for f in verdict.findings}
    text = intent.draft(site)
    assert "\n[[want]]" not in text and "login" not in text
    assert f"the states say nothing as long as {whole} is not fixed" in text
    assert '# want = "any"' in text and "hide" not in text.partition("[[want]]")[2]


def test_a_stop_of_another_host_keeps_no_entry_from_the_draft(audit_site: AuditSite) -> None:
    pages = {"/robots.txt": robots("Disallow:"), "/": html(body=a(*HUTS)), **HUTS, "/sitemap.xml": sitemap("/", *HUTS)}
    pages |= {"https://api.sarnfell.example/robots.txt": Response(b"", 503)}
    site, verdict = audit_site(pages, intent='hosts = ["api.sarnfell.example"]')
    assert "robots-unreachable" in {f.check for f in verdict.findings}
    assert "\n[[want]]" in intent.draft(site)


def test_what_a_draft_of_robots_txt_calls_wanted_is(audit_site: AuditSite) -> None:
    pages = {"/robots.txt": robots("Disallow: /assets/"), "/": html('<script src="/assets/a.js"></script>')}
    pages |= {"/assets/a.js": Response(b"1", media_type="text/javascript")}
    site, _ = audit_site(pages)
    found = robots_draft.draft(site)
    what = "it blocks 1 file that open pages need, such as /assets/a.js"
    assert found.reasons == (f"line 2, `Disallow: /assets/`, gets 1 Allow line: {what}",)


def test_a_draft_sitemap_says_why_dates_are_dropped(audit_site: AuditSite) -> None:
    urls = ("/", *HUTS, "/b", "/c")
    dated = "".join(f"<url><loc>{HOST}{p}</loc><lastmod>2026-01-01</lastmod></url>\n" for p in urls)
    pages = {"/robots.txt": robots(), "/": html(body=a(*HUTS, "/b", "/c")), **HUTS, "/b": TO, "/c": html(title="C")}
    site, _ = audit_site({**pages, "/sitemap.xml": f"<urlset {XMLNS}>{dated}</urlset>"})
    found = sitemap_draft.draft(site)
    assert found.dated == 0
    assert list(sitemap_draft.dropped(found)) == [
        "the lastmod of 6 entries is dropped, because nearly all entries have the same date"
    ]


def test_what_only_counts_visits_is_not_needed(audit_site: AuditSite) -> None:
    calls = "".join(
        f'fetch("{path}");\n' for path in ("/g/collect?v=2", "/api/beacon", "/api/huts", "/collections/new")
    )
    pages = {
        **BASE,
        "/": html(f"<script>\n{calls}</script>"),
        "/robots.txt": robots("Disallow: /g/", "Disallow: /api/", "Disallow: /coll"),
    }
    found = audit_site(pages)[1].findings
    assert {f.url for f in found if f.check == "resource-barred"} == {HOST + "/api/huts", HOST + "/collections/new"}
