"""For every check one small site on which it fires and one on which it stays quiet.

A site is a mapping of paths (or whole addresses) to bodies; `at` are the subjects expected. The
quiet site is the same with some answers changed.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from indrel.demo.site import Response

HOST = "https://www.sarnfell.example"
OLD_DATE = '<meta name="robots" content="unavailable_after: 2020-01-01">'
NOINDEX = '<meta name="robots" content="noindex">'
GONE = Response(b"", 404, "text/plain")
XMLNS = 'xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"'


def html(head: str = "", body: str = "", title: str = "Hut") -> str:
    return f"<!doctype html><html><head><title>{title}</title>\n{head}\n</head><body><p>{title}</p>{body}</body></html>"


def canonical(path: str) -> str:
    return f'<link rel="canonical" href="{HOST}{path}">'


def a(*paths: str, rel: str = "") -> str:
    return "".join(f'<a href="{p}"{f" rel={rel}" if rel else ""}>{p}</a>' for p in paths)


def sitemap(*paths: str) -> str:
    return f"<urlset {XMLNS}>" + "".join(f"<url><loc>{HOST}{p}</loc></url>\n" for p in paths) + "</urlset>"


def moved(to: str) -> Response:
    return Response(b"", 301, "text/plain", (("Location", to),))


def sent(body: str, *headers: tuple[str, str], status: int = 200) -> Response:
    return Response(body.encode(), status, headers=headers)


def robots(*lines: str) -> str:
    return "\n".join(("User-agent: *", *lines)) + "\n"


@dataclass
class Case:
    """`fires` and the `calm` answers laid over it; `missing` is the answer to unknown paths while it fires."""

    fires: dict[str, Any]
    at: tuple[str, ...]
    calm: dict[str, Any]
    crawlers: tuple[str, ...] = ("googlebot", "bingbot", "*")
    severity: str | None = None
    options: dict[str, Any] = field(default_factory=dict)
    missing: Response | None = None
    intent: str | None = None
    calm_intent: str | None = None


BASE = {
    "/robots.txt": robots("Disallow:", f"Sitemap: {HOST}/sitemap.xml"),
    "/sitemap.xml": sitemap("/"),
    "/": html(f'<link rel="canonical" href="{HOST}/">', title="Start"),
}


def site(**pages: Any) -> dict[str, Any]:
    """The base site with more pages: `_a_b` stands for `/a/b`."""
    return {**BASE, **{name.replace("_", "/"): answer for name, answer in pages.items()}}


def listed(path: str, answer: Any) -> dict[str, Any]:
    return {**BASE, "/sitemap.xml": sitemap("/", path), path: answer}


def page_pair(head_bad: str, head_good: str, path: str = "/a") -> tuple[dict[str, Any], dict[str, Any]]:
    """A linked page with a bad head, and the same with a good one."""
    return site(**{"/": html(body=a(path), title="Start"), path: html(head_bad, title="A")}), {
        path: html(head_good, title="A")
    }


def pair(id: str, bad: str, good: str, path: str = "/a", **more: Any) -> tuple[str, Case]:
    fires, calm = page_pair(bad, good, path)
    extra = more.pop("pages", {})
    return id, Case({**fires, **extra}, (path,), calm, **more)


def robots_case(
    id: str, bad: list[str], good: list[str], pages: dict[str, Any] | None = None, **more: Any
) -> tuple[str, Case]:
    fires = {**BASE, **(pages or {}), "/robots.txt": robots(*bad)}
    return id, Case(fires, ("/robots.txt",), {"/robots.txt": robots(*good)}, **more)


TO = html(title="Target")
OLD = tuple(f"/{name}" for name in ("beacon", "cairn", "gully", "ledge", "tarn"))
REPLY, REPLYING = (
    "/a?replytocom=1",
    html(canonical("/a"), a("/a", rel="nofollow")),
)  # a form that leads back to its page
CASES: dict[str, Case] = dict(
    [
        (
            "site-barred",
            Case({**BASE, "/robots.txt": robots("Disallow: /")}, ("/",), {"/robots.txt": robots("Disallow: /x")}),
        ),
        (
            "robots-unreachable",
            Case({**BASE, "/robots.txt": Response(b"", 503)}, ("/robots.txt",), {"/robots.txt": GONE}, severity="stop"),
        ),
        (
            "robots-is-page",
            Case({**BASE, "/robots.txt": html()}, ("/robots.txt",), {"/robots.txt": robots("Disallow:")}),
        ),
        ("robots-missing", Case({**BASE, "/robots.txt": GONE}, ("/robots.txt",), {"/robots.txt": robots()})),
        (
            "robots-unknown-field",
            Case(
                {**BASE, "/robots.txt": robots("Dissallow: /x", "Disallow /y")},
                ("/robots.txt", "/robots.txt"),
                {"/robots.txt": robots("Disallow: /x", "Crawl-delay: 1")},
            ),
        ),
        (
            "robots-orphan-rule",
            Case(
                {**BASE, "/robots.txt": "Disallow: /x\n" + robots()},
                ("/robots.txt",),
                {"/robots.txt": robots("Disallow: /x")},
            ),
        ),
        (
            "barred-wanted",
            Case(
                site(
                    **{
                        "/": html(canonical("/p/a"), a("/p/a"), "Start"),
                        "/robots.txt": robots("Disallow: /p/"),
                        "/p/a": TO,
                    }
                ),
                ("/p/a",),
                {"/robots.txt": robots("Disallow: /p/", "Allow: /p/a")},
                severity="ask",
            ),
        ),
        (
            "barred-noindex",
            Case(
                site(**{"/": html(body=a("/p/a")), "/robots.txt": robots("Disallow: /p/"), "/p/a": html(NOINDEX)}),
                ("/p/a",),
                {"/p/a": html()},
                options={"read_barred": True},
            ),
        ),
        (
            "barred-unread",
            Case(
                site(**{"/": html(body=a("/p/a")), "/robots.txt": robots("Disallow: /p/")}),
                ("/robots.txt",),
                {"/robots.txt": robots("Disallow: /q/")},
            ),
        ),
        (
            "listed-barred",
            Case(
                {**listed("/p/a", TO), "/robots.txt": robots("Disallow: /p/", f"Sitemap: {HOST}/sitemap.xml")},
                ("/p/a",),
                {"/robots.txt": robots("Disallow: /p/b", f"Sitemap: {HOST}/sitemap.xml")},
                severity="fix",
            ),
        ),
        (
            "site-noindex",
            Case(
                site(**{"/": html(NOINDEX, a("/a", "/b")), "/a": html(NOINDEX), "/b": html(NOINDEX)}),
                ("/",),
                {"/": html(body=a("/a", "/b"))},
            ),
        ),
        pair("noindex-wanted", NOINDEX, "", pages={"/": html(canonical("/a"), a("/a"), "Start")}, severity="ask"),
        pair("noindex-partial", '<meta name="Googlebot" content="none">', NOINDEX),
        pair(
            "robots-sources-differ",
            '<meta name="robots" content="index, follow"><meta name="ROBOTS" content="NOINDEX">',
            '<meta name="robots" content="noindex"><meta name="robots" content="nofollow">',
        ),
        pair(
            "robots-self-contradicts", '<meta name="robots" content="all, none">', '<meta name="robots" content="none">'
        ),
        pair("robots-tag-in-body", f"<div>x</div>{NOINDEX}", f"<noscript><link></noscript>{NOINDEX}"),
        pair(
            "robots-token-slip",
            '<meta name="robots" content="no-index">',
            '<meta name="robots" content="max-snippet:-1">',
        ),
        (
            "robots-header-slip",
            Case(
                site(**{"/": html(body=a("/a")), "/a": sent(TO, ("X-Robots-Tag", "unavailable_after: soon"))}),
                ("/a",),
                {"/a": sent(TO, ("X-Robots-Tag", "unavailable_after: Friday, 25-Jun-27 15:00:00 GMT"))},
            ),
        ),
        (
            "missing-answers-200",
            Case(dict(BASE), ("/",), {}, missing=Response(b"<title>Oops</title>Nothing here")),
        ),
        pair(
            "canonical-several",
            canonical("/b") + canonical("/c"),
            canonical("/b") + canonical("/b"),
            pages={"/b": TO, "/c": TO},
        ),
        pair("canonical-in-body", f"<p>x</p>{canonical('/b')}", canonical("/a"), pages={"/b": TO}),
        pair("canonical-to-gone", canonical("/b"), canonical("/a")),
        pair("canonical-to-broken", canonical("/b"), canonical("/a"), pages={"/b": Response(b"", 500, "text/plain")}),
        pair("canonical-to-redirect", canonical("/b"), canonical("/c"), pages={"/b": moved("/c"), "/c": TO}),
        pair("canonical-to-hidden", canonical("/b"), canonical("/c"), pages={"/b": html(NOINDEX), "/c": TO}),
        pair(
            "canonical-to-barred",
            canonical("/b"),
            canonical("/c"),
            pages={"/robots.txt": robots("Disallow: /b"), "/c": TO},
        ),
        pair("canonical-and-noindex", NOINDEX + canonical("/b"), NOINDEX + canonical("/a"), pages={"/b": TO}),
        (
            "only-nofollow-path",
            Case(
                {**listed("/a", TO), "/": html(body=a("/a", rel="nofollow"))},
                ("/a",),
                {"/": html(body=a("/a", rel="nofollow") + a("/b")), "/b": html(body=a("/a"))},
                severity="ask",
            ),
        ),
        ("link-to-gone", Case(site(**{"/": html(body=a("/a"))}), ("/a",), {"/a": TO})),
        ("sitemap-none", Case({"/": html(), "/robots.txt": robots()}, ("/",), {"/sitemap.txt": HOST + "/\n"})),
        ("sitemap-is-page", Case({**BASE, "/sitemap.xml": html()}, ("/sitemap.xml",), {"/sitemap.xml": sitemap("/")})),
        (
            "sitemap-unreadable",
            Case({**BASE, "/sitemap.xml": sitemap("/")[:-3]}, ("/sitemap.xml",), {"/sitemap.xml": sitemap("/")}),
        ),
        ("listed-hidden", Case(listed("/a", html(NOINDEX)), ("/a",), {"/a": TO})),
        (
            "listed-folded",
            Case({**listed("/a", html(canonical("/b"))), "/b": TO}, ("/a",), {"/a": html(canonical("/a"))}),
        ),
        ("listed-redirects", Case({**listed("/a", moved("/b")), "/b": TO}, ("/a",), {"/a": TO})),
        ("listed-gone", Case(listed("/a", Response(b"", 410)), ("/a",), {"/a": TO})),
        ("listed-broken", Case(listed("/a", Response(b"", 500)), ("/a",), {"/a": TO})),
        ("listed-locked", Case(listed("/a", Response(b"", 403)), ("/a",), {"/a": TO})),
        robots_case("robots-unsupported-field", ["Crawl-delay: 5"], ["Disallow: /x"], severity="ask"),
        robots_case("robots-bad-path", ["Disallow: private/"], ["Disallow: /private/"]),
        robots_case("robots-anchor-slip", ["Disallow: /a$b"], ["Disallow: /a%24b$"]),
        robots_case("robots-empty-agent", ["User-agent: 99", "Disallow: /x"], ["User-agent: x", "Disallow: /x"]),
        robots_case(
            "robots-split-group", ["Disallow: /x", "User-agent: *", "Disallow: /y"], ["Disallow: /x", "Disallow: /y"]
        ),
        robots_case(
            "robots-group-replaces-all",
            ["Disallow: /x", "User-agent: bingbot", "Disallow: /y"],
            ["Disallow: /x", "User-agent: bingbot", "Disallow: /y", "Disallow: /*x"],
            crawlers=("bingbot", "*"),
        ),
        robots_case("robots-rule-never-wins", ["Disallow: /a", "Allow: /a"], ["Disallow: /a", "Allow: /ab"]),
        robots_case("robots-foreign-sitemap", ["Sitemap: /sitemap.xml"], [f"Sitemap: {HOST}/sitemap.xml"]),
        robots_case(
            "robots-tells-secrets",
            ["Disallow: /old/backup-2025/"],
            ["Disallow: /administration-fees/", "Disallow: /account/lost_password", "Disallow: /password/reset"],
        ),
        robots_case("robots-too-long", ["#" * 512_000, "Disallow: /x"], ["Disallow: /x"]),
        robots_case("robots-encoding", ["Disallow: /\0"], ["Disallow: /\u00fc"]),
        robots_case("robots-rule-unused", ["Disallow: /nothing/"], ["Disallow: /a"], pages={"/": html(body=a("/a"))}),
        robots_case(
            "robots-case-slip",
            ["Disallow: /HUTS/"],
            ["Disallow: /huts/", "Allow: /huts/a"],  # the first decides nothing, but not for its case
            pages={"/": html(body=a("/huts/a"))},
        ),
        robots_case("robots-no-sitemap", [], [f"Sitemap: {HOST}/sitemap.xml"]),
        robots_case(
            "robots-overreach",
            ["Disallow: /news", f"Sitemap: {HOST}/sitemap.xml"],
            ["Disallow: /news/", f"Sitemap: {HOST}/sitemap.xml"],
            pages=listed("/newsletter", html()),
        ),
        (
            "robots-redirects",
            Case(
                {**BASE, "/robots.txt": moved("/r.txt"), "/r.txt": robots()},
                ("/robots.txt",),
                {"/robots.txt": robots()},
                severity="ask",
            ),
        ),
        (
            "robots-host-differs",
            Case(
                {
                    **BASE,
                    "http://www.sarnfell.example/": html(),
                    "http://www.sarnfell.example/robots.txt": robots("Disallow: /x"),
                },
                ("/",),
                {"http://www.sarnfell.example/robots.txt": BASE["/robots.txt"]},
            ),
        ),
        (
            "robots-agent-differs",
            Case(
                {**BASE, "as bingbot /robots.txt": robots("Disallow: /")},
                ("/robots.txt",),
                {"as bingbot /robots.txt": BASE["/robots.txt"]},
                options={"as_crawlers": True},
            ),
        ),
        (
            "barred-canonical",
            Case(
                site(
                    **{"/": html(body=a("/p/a")), "/robots.txt": robots("Disallow: /p/"), "/p/a": moved("/b"), "/b": TO}
                ),
                ("/p/a",),
                {"/p/a": TO},
                options={"read_barred": True},
            ),
        ),
        (
            "barred-to-hide",
            Case(
                site(**{"/": html(body=a("/search?q=x")), "/robots.txt": robots("Disallow: /search")}),
                ("/search?q=x",),
                {"/robots.txt": robots("Disallow: /x")},
                severity="ask",
            ),
        ),
        (
            "resource-barred",
            Case(
                site(
                    **{
                        "/": html(
                            '<script>\nfetch("/api/huts")</script><script src=/s.js></script><img src="/p/i.png">'
                        ),
                        "/robots.txt": robots("Disallow: /api/", "Disallow: /p/"),
                    }
                ),
                ("/api/huts", "/p/i.png"),
                {"/robots.txt": robots("Disallow: /p/i.gif")},
            ),
        ),
    ]
)

STAGING = "https://staging.sarnfell.example"
PROSE = "<p>The stove burns wood that walkers carry up, and water comes from the beck below the door.</p>"
OTHER_PROSE = "<p>Members meet in March; accounts, elections and soup follow, all in the village hall at Nether.</p>"
HUT_WANT = '[[want]]\nmatch = "/a*"\nwant = "{}"\n'
EMPTY = html(title="Stoves", body="<p>No entries yet.</p>")


def start(*links: str, head: str = "", more: str = "") -> str:
    return html(head, a(*links) + more, title="Start")


def page(body: str = PROSE, head: str = "", title: str = "Hut") -> str:
    return html(head, body, title)


def wanted(want: str, answer: Any, calm: Any, at: str = "/a", **more: Any) -> Case:
    """A linked page under a stated want."""
    return Case(site(**{"/": start(at), at: answer}), (at,), {at: calm}, intent=HUT_WANT.format(want), **more)


LOGIN = page('<form><input type="password" name="p"></form>', title="Log in")
FIVE = [f"/p{i}" for i in range(5)]
CASES |= {
    "open-unwanted": wanted("hide", TO, html(NOINDEX)),
    "open-locked": wanted("lock", TO, Response(b"", 401)),
    "live-dropped": wanted("drop", TO, Response(b"", 410)),
    "host-open": Case(
        {**BASE, STAGING + "/": html(), STAGING + "/robots.txt": robots()},
        (STAGING + "/",),
        {STAGING + "/": sent(html(), ("X-Robots-Tag", "noindex"))},
        intent='[[host]]\nname = "staging.sarnfell.example"\nclosed = true\n',
    ),
    "junk-open": Case(
        site(**{"/": start("/huts?sort=price"), "/huts?sort=price": page()}),
        ("/huts?sort=price",),
        {"/huts?sort=price": page(head=canonical("/huts"))},
        severity="ask",
    ),
    "file-needs-header": wanted(
        "hide",
        Response(b"%PDF", media_type="application/pdf"),
        Response(b"%PDF", media_type="application/pdf", headers=(("X-Robots-Tag", "noindex"),)),
    ),
    "gate-open": Case(
        site(**{"/": start("/x"), "/x": LOGIN}), ("/x",), {"/x": page('<input type="text">' + PROSE * 6)}
    ),
    "empty-archive-open": Case(
        site(**{"/": start("/tag/stoves/"), "/tag/stoves/": EMPTY}),
        ("/tag/stoves/",),
        {"/tag/stoves/": start("/", "/b")},
    ),
    "robots-tag-void": pair("", '<meta name="robots" value="noindex">', NOINDEX)[1],
    "robots-token-obsolete": pair("", '<meta name="robots" content="noodp">', NOINDEX)[1],
    "embed-without-noindex": pair(
        "", '<meta name="robots" content="indexifembedded">', '<meta name="robots" content="noindex,indexifembedded">'
    )[1],
    "expiry-passed": wanted(
        "show",
        html('<meta name="robots" content="unavailable_after: 2020-01-02">'),
        html('<meta name="robots" content="unavailable_after: 2120-01-02">'),
    ),
    "snippet-withheld": Case(
        listed("/a", html('<meta name="robots" content="max-snippet:0">')),
        ("/a",),
        {"/a": html('<meta name="robots" content="max-snippet:20">')},
        severity="note",
    ),
    "noindex-on-answer": Case(
        site(**{"/": start("/a"), "/a": sent(html("\n" + NOINDEX), ("X-Robots-Tag", "all, noindex"), status=404)}),
        ("/a",),
        {"/a": sent(html(), status=404)},
    ),
    "noindex-nofollow-hub": Case(
        {**listed("/a", TO), "/": start("/hub"), "/hub": html('<meta name="robots" content="none">', a("/a"))},
        ("/hub",),
        {"/": start("/hub", "/a")},
        severity="note",
    ),
    "soft-missing": Case(
        site(**{"/": start("/a"), "/a": html(title="Page not found", body="<p>Sorry.</p>")}),
        ("/a",),
        {"/a": html(title="Lost and found", body="<p>One glove.</p>")},
    ),
    "agent-differs": Case(
        {**site(**{"/": start("/a"), "/a": TO}), "as bingbot /a": html(NOINDEX, title="Target")},
        ("/a",),
        {"as bingbot /a": TO},
        options={"as_crawlers": True},
    ),
    "canonical-unusable": pair("", '<link rel=canonical href="">', canonical("/a"))[1],
    "canonical-relative": pair("", '<link rel="canonical" href="/a">', canonical("/a"), severity="ask")[1],
    "canonical-fragment": pair("", canonical("/a#top"), canonical("/a"))[1],
    "canonical-chain": pair("", canonical("/b"), canonical("/c"), pages={"/b": html(canonical("/c")), "/c": TO})[1],
    "canonical-loop": Case(
        site(**{"/": start("/a"), "/a": html(canonical("/b")), "/b": html(canonical("/a"))}),
        ("/a", "/b"),
        {"/b": html(canonical("/b"))},
    ),
    "canonical-off-site": pair(
        "", '<link rel="canonical" href="https://outfitter.example/a">', canonical("/a"), severity="ask"
    )[1],
    "canonical-to-closed-host": pair("", '<link rel="canonical" href="http://localhost:1313/a">', canonical("/a"))[1],
    "canonical-host-variant": pair("", '<link rel="canonical" href="http://sarnfell.example/a">', canonical("/a"))[1],
    "canonical-to-start": Case(
        site(**{"/": start(*FIVE), **{p: page(f"<p>{p}</p>", canonical("/")) for p in FIVE}}),
        tuple(FIVE),
        {FIVE[0]: page(head=canonical(FIVE[0]))},
    ),
    "canonical-first-page": Case(
        site(**{"/": start("/news/page/2/"), "/news/page/2/": html(canonical("/news/")), "/news/": TO}),
        ("/news/page/2/",),
        {"/news/page/2/": html(canonical("/news/page/2/"))},
    ),
    "canonical-unlike": Case(
        site(**{"/": start("/a"), "/a": page(head=canonical("/b")), "/b": page(OTHER_PROSE, title="Meeting")}),
        ("/a",),
        {"/b": page(PROSE + PROSE, title="Other")},
    ),
    "canonical-wanted-folded": wanted("show", html(canonical("/b")), html(canonical("/a"))),
    "twin-open": Case(
        site(**{"/": start("/a", "/copy/of/a"), "/a": page(), "/copy/of/a": page()}),
        ("/a",),
        {"/copy/of/a": page(OTHER_PROSE)},
    ),
    "canonical-none": Case(
        site(**{"/": html(canonical("/"), a("/a", "/404.html")), "/a": TO, "/404.html": html(title="Lost and found")}),
        ("/a",),
        {"/a": html(canonical("/a"))},
    ),
    "canonical-against-alternates": pair(
        "",
        f'<link rel="alternate" hreflang="cy" href="{HOST}/cy">',
        f'<link rel="alternate" hreflang="cy" href="{HOST}/b">',
        pages={"/cy": html(canonical("/b")), "/b": TO},
    )[1],
    "start-not-open": Case(
        {**BASE, "/": html(NOINDEX, a("/a")), "/a": TO}, ("/",), {"/": html(canonical("/"), a("/a"))}
    ),
    "site-nofollow": Case(
        {
            **BASE,
            **{
                p: html('<meta name="robots" content="nofollow">', a("/a", "/b", "/c", "/d"))
                for p in ("/", "/a", "/b", "/c", "/d")
            },
            "/sitemap.xml": sitemap("/", "/a", "/b", "/c", "/d"),
        },
        ("/",),
        {p: html('<meta name="robots" content="follow">', a("/a", "/b", "/c", "/d")) for p in ("/", "/a")},
    ),
    "script-only": Case(
        {
            **BASE,
            "/": '<!doctype html><html><head><title>Huts</title><script src="/app.js"></script></head><body><div id="app"></div>',
        },
        ("/",),
        {"/": html('<script src="/app.js"></script>', a("/a")), "/a": TO},
    ),
    "links-to-closed-host": Case(
        {**BASE, "/": html(body=a(*(f"http://localhost:8000/{n}" for n in range(5))), title="Start")},
        ("/",),
        {"/": html(body=a("/a", *(f"http://localhost:8000/{n}" for n in range(5))), title="Start"), "/a": TO},
    ),
    "host-variants-serve": Case(
        {**BASE, "/": html(title="Start"), "http://www.sarnfell.example/": html(title="Start")},
        ("/",),
        {"http://www.sarnfell.example/": html(canonical("/"), title="Start")},
    ),
    "gone-to-start": Case(
        {**BASE, "/": html(body=a(*OLD), title="Start"), **dict.fromkeys(OLD, moved("/"))},
        OLD,
        {OLD[0]: moved("/huts"), "/huts": html(title="Huts")},
    ),
    "link-outside-base": Case(
        {
            **BASE,
            "/trust/": html(body=a("/trust/a", "/b"), title="Start"),
            "/trust/a": html(body=a("/trust/b")),
            "/trust/b": TO,
        },
        ("/b",),
        {"/trust/": html(body=a("/trust/a", "/trust/b"), title="Start")},
        options={"start": "/trust/"},
    ),
    "hash-routes": Case(
        {**BASE, "/": html(body=a("#/huts", "#/routes", "#/"), title="Start")},
        ("/",),
        {"/": html(body=a("#/huts", "#/map", *OLD), title="Start"), **dict.fromkeys(OLD, TO)},
    ),
    "robots-wrong-base": Case(
        {
            **BASE,
            "/robots.txt": robots("Disallow: /trust/a", "Disallow: /trust/b/", f"Sitemap: {HOST}/sitemap.xml"),
            "/": html(body=a("/a", "/b/c"), title="Start"),
            "/a": TO,
            "/b/c": TO,
        },
        ("/robots.txt",),
        {"/robots.txt": robots("Disallow: /a", "Disallow: /b/", f"Sitemap: {HOST}/sitemap.xml")},
    ),
    "section-kept-out": Case(
        {
            **BASE,
            "/": html(body=a(*(f"/archive/{n}" for n in range(12))), title="Start"),
            **{f"/archive/{n}": html(OLD_DATE, title=f"Year {n}") for n in range(12)},
        },
        ("/archive/0",),
        {"/archive/3": html(title="A year that is shown")},
        severity="ask",
    ),
    "endless-space": Case(
        {
            **BASE,
            "/": html(body=a("/days?day=2026-01-01"), title="Start"),
            **{
                f"/days?day=2026-01-{d:02}": html(body=f"<p>Snow on day {d}</p>" + a(f"/days?day=2026-01-{d + 1:02}"))
                for d in range(1, 29)
            },
        },
        ("/days?day=2026-01-01",),
        {"/days?day=2026-01-04": html(title="No more days")},
        severity="fix",
        options={"per_pattern": 5},
    ),
    "copies-open": Case(
        {
            **BASE,
            "/": html(body=a("/tarn", "/cairn"), title="Start"),
            **{f"/{n}": html(body=a(f"/{n}/edit"), title=n) for n in ("tarn", "cairn")},
            **{f"/{n}/edit": html(body="<textarea></textarea>", title=f"Edit {n}") for n in ("tarn", "cairn")},
        },
        ("/tarn/edit",),
        {f"/{n}/edit": html(NOINDEX, title=f"Edit {n}") for n in ("tarn", "cairn")},
    ),
    "sitemap-empty": Case({**BASE, "/sitemap.xml": sitemap()}, ("/sitemap.xml",), {"/sitemap.xml": sitemap("/")}),
    "sitemap-index-elsewhere": Case(
        {
            **BASE,
            "/sitemap.xml": f"<sitemapindex {XMLNS}><sitemap><loc>https://other.test/s.xml</loc></sitemap></sitemapindex>",
        },
        ("/sitemap.xml",),
        {
            "/sitemap.xml": f"<sitemapindex {XMLNS}><sitemap><loc>{HOST}/s.xml</loc></sitemap></sitemapindex>",
            "/s.xml": sitemap("/"),
        },
    ),
    "no-path": Case(listed("/a", TO), ("/a",), {"/": start("/a")}, severity="note"),
    "link-nofollow-inside": Case(
        {**listed("/a", TO), "/": start("/b", more=a("/a", rel="nofollow")), "/b": html(body=a("/a"))},
        ("/a",),
        {"/": start("/b", "/a", REPLY), REPLY: REPLYING},
        severity="note",
    ),
    "link-mixed": Case(
        site(**{"/": start("/b", more=a("/a", rel="ugc")), "/b": html(body=a("/a")), "/a": TO}),
        ("/a",),
        {"/": start("/b", "/a", REPLY), REPLY: REPLYING},
    ),
    "page-nofollow": Case(
        {**listed("/a", TO), "/": start("/a", head='<meta name="robots" content="nofollow">')},
        ("/",),
        {"/": start("/a")},
        severity="note",
    ),
    "link-to-shut": Case(
        site(**{"/": start("/a", "/b"), "/a": html(NOINDEX), "/b": html(body=a("/a"))}),
        ("/a",),
        {"/a": TO},
    ),
    "link-to-redirect": Case(site(**{"/": start("/a"), "/a": moved("/b"), "/b": TO}), ("/a",), {"/a": TO}),
    "link-not-crawlable": Case(
        site(**{"/": start(more="<span onclick=\"location.href='/huts/'\">Huts</span>")}),
        ("/",),
        {
            "/": start(
                more='<a href="/b" onclick="count()">Huts</a><a href="#">Top</a><p onclick="location=\'/b\'">Huts</p>'
            )
        },
    ),
    "link-rel-slip": Case(
        site(**{"/": start("/a", more=a("https://outfitter.example/", rel="no-follow")), "/a": TO}),
        ("/",),
        {"/": start("/a", more=a("https://outfitter.example/", rel="nofollow"))},
    ),
    "paid-link-followed": Case(
        site(**{"/": start("https://shop.outfitter.example/boots")}),
        ("/",),
        {"/": start(more=a("https://shop.outfitter.example/boots", rel="sponsored"))},
        intent='[links]\npartners = ["outfitter.example"]\n',
    ),
    "user-link-followed": Case(
        site(**{"/": start(more=f'<div class="comments">{a("https://outfitter.example/")}</div>')}),
        ("/",),
        {"/": start(more=f'<div class="comments">{a("https://outfitter.example/", rel="ugc")}</div>')},
        intent='[links]\nuser_written = [".comments"]\n',
    ),
    "listed-unwanted": Case(
        listed("/a", html(NOINDEX)), ("/a",), {"/sitemap.xml": sitemap("/")}, intent=HUT_WANT.format("hide")
    ),
}


def entries(*values: str) -> str:
    """A sitemap of whole entries as written inside `<url>`."""
    return f"<urlset {XMLNS}>\n" + "".join(f"<url>{v}</url>\n" for v in values) + "</urlset>"


def loc(path: str = "/", more: str = "") -> str:
    return f"<loc>{path if '://' in path else HOST + path}</loc>{more}"


MAP = ("/sitemap.xml",)
CASES |= {
    "sitemap-too-large": Case(
        {**BASE, "/robots.txt": robots("Disallow: /x"), "/sitemap.xml": sitemap(*["/x1"] * 50_001)},
        MAP,
        {"/sitemap.xml": sitemap("/x1")},
    ),
    "sitemap-index-nested": Case(
        {
            **BASE,
            "/sitemap.xml": f"<sitemapindex {XMLNS}>\n<sitemap>{loc('/i.xml')}</sitemap></sitemapindex>",
            "/i.xml": f"<sitemapindex {XMLNS}><sitemap>{loc('/s.xml')}</sitemap></sitemapindex>",
            "/s.xml": sitemap("/"),
        },
        MAP,
        {"/i.xml": sitemap("/")},
    ),
    "sitemap-barred": Case(
        {**BASE, "/robots.txt": robots("Disallow: /site", f"Sitemap: {HOST}/sitemap.xml")},
        MAP,
        {"/robots.txt": robots("Disallow: /sitemaps", f"Sitemap: {HOST}/sitemap.xml")},
    ),
    "sitemap-foreign": Case(
        {
            **BASE,
            "/sitemap.xml": entries(
                loc(),
                loc("https://other.example/a"),
                loc(f"{HOST}{HOST}/b"),
                loc("HTTPS://WWW.SARNFELL.EXAMPLE"),
                loc(f"{HOST}:443/c"),
                loc("https://%77ww.sarnfell.example/d"),
            ),
        },
        ("https://other.example/a", f"{HOST}{HOST}/b"),
        {
            "/robots.txt": robots("Disallow:"),
            "/sitemap.xml": moved("/maps/new.xml"),
            "/maps/new.xml": entries(loc(), loc("/maps/b")),
        },
    ),
    "sitemap-bad-entry": Case(
        {**BASE, "/sitemap.xml": entries(loc(), loc("/a#top"))},
        ("/a#top",),
        {"/sitemap.xml": entries(loc(), loc("/a"))},
    ),
    "sitemap-repeat": Case(
        {**BASE, "/sitemap.xml": entries(*map(loc, ("/", "/b", "/a", "/b", "/a", "/"))).replace("\n", "")},
        MAP,
        {
            "/robots.txt": robots("Disallow:", f"Sitemap: {HOST}/sitemap.xml", f"Sitemap: {HOST}/rss.xml"),
            "/sitemap.xml": entries(loc(), loc("/a")),
            "/rss.xml": f"<rss version='2.0'><channel><item><link>{HOST}/a</link></item></channel></rss>",  # repeats what is new
        },
    ),
    "sitemap-bad-date": Case(
        {
            **BASE,
            "/sitemap.xml": entries(loc("/", "<lastmod>23.11.2026</lastmod>"), loc("/a", "<lastmod>2120</lastmod>")),
        },
        MAP,
        {
            "/sitemap.xml": entries(
                loc("/", "<lastmod>2026-11-02T08:00:00+01:00</lastmod>"), loc("/a", "<lastmod>2026-11</lastmod>")
            )
        },
    ),
    "sitemap-flat-dates": Case(
        {**BASE, "/sitemap.xml": entries(*[loc(f"/{i}", "<lastmod>2026-11-02</lastmod>") for i in range(5)])},
        MAP,
        {"/sitemap.xml": entries(*[loc(f"/{i}", f"<lastmod>2026-11-0{i + 1}</lastmod>") for i in range(5)])},
    ),
    "sitemap-bad-hint": Case(
        {**BASE, "/sitemap.xml": entries(loc("/", "<priority>2</priority>"))},
        MAP,
        {"/sitemap.xml": entries(loc("/", "<changefreq>daily</changefreq><priority>1.0</priority>"))},
    ),
    "wanted-unlisted": Case(
        site(**{"/": start("/a"), "/a": TO}),
        ("/a",),
        {"/": start("/a", "/a?page=2"), "/a?page=2": html(title="Page 2"), "/sitemap.xml": sitemap("/", "/a")},
        intent=HUT_WANT.format("show"),
    ),
}

API = "https://api.sarnfell.example"
TOLD = "<p>The huts stand above the tarns and are open to walkers all year, and wardens sleep there in summer.</p>"
SENT = {"headers": (("Access-Control-Allow-Origin", "*"),), "media_type": "application/json"}


def scripted(script: str, body: str = TOLD, head: str = "", title: str = "Hut") -> str:
    """A page whose own text is in `main`, and a script that runs at its end."""
    return html(head, f"<main id=m>{body}</main><script>{script}</script>", title)


LOAD = f"fetch('{API}/board').then(r => r.json()).then(t => m.textContent = t).catch(() => m.textContent = 'Could not be loaded')"
WALL = "new IntersectionObserver(s => s[0].isIntersecting && m.insertAdjacentHTML('beforeend', '<a href=/p1>1</a>')).observe(e)"
END = TOLD + "<div style='height:300vh'></div><i id=e>.</i>"
WORKER = (
    "self.addEventListener('install', () => self.skipWaiting());"
    "self.addEventListener('activate', e => e.waitUntil(clients.claim()));"
    "self.addEventListener('fetch', e => e.request.url.endsWith('/a') && e.respondWith("
    f"new Response('<title>Plan</title><main>{TOLD}</main>', {{headers: {{'content-type': 'text/html'}}}})))"
)
REGISTERS = scripted("navigator.serviceWorker.register('/w.js')", TOLD + a("/a"), canonical("/"), "Start")


def rendered(page: str | Response, calm: str | Response, at: str = "/a", **more: Any) -> Case:
    """A page that is looked at with a browser; it is linked from the start page."""
    base = site(**{"/": html(canonical("/"), a("/a"), "Start"), "/a": page, **more.pop("pages", {})})
    return Case(base, (at,), {"/a": calm, **more.pop("calmer", {})}, options={"render": "sample"}, **more)


CASES |= {
    "script-changes-robots": rendered(
        scripted("document.querySelector('[name=robots]').content = 'noindex'", head='<meta name="robots" content="all">'),
        scripted("document.querySelector('[name=robots]').content = 'INDEX, follow'", head='<meta name="robots" content="all">'),
    ),
    "script-changes-canonical": rendered(
        scripted("document.querySelector('[rel=canonical]').href = '/b'", head=canonical("/a")),
        scripted("document.querySelector('[rel=canonical]').href = '/a#top'", head=canonical("/a")),
        severity="fix",
    ),
    "script-leads-away": rendered(
        scripted("location.href = '/b'"), scripted("setTimeout(() => { location.href = '/b' }, 3000); history.pushState(0, '', '/c')")
    ),
    "script-needs-visit": rendered(
        sent("<h1>Not found</h1>", status=404), sent("<h1>Not found</h1>", status=404),
        pages={"/": REGISTERS, "/w.js": Response(WORKER.encode(), media_type="text/javascript")},
        calmer={"/w.js": Response(b"", media_type="text/javascript")},
    ),
    "content-needs-scroll": rendered(
        scripted(WALL, END), scripted(WALL, END + a("/p1")), pages={"/p1": html(body=TOLD)}
    ),
    "render-broken": rendered(
        scripted(LOAD), scripted(LOAD.replace("/board", "/open")),
        pages={
            f"{API}/robots.txt": robots("Disallow: /board"), f"{API}/board": Response(b'"x"', **SENT),
            f"{API}/open": Response(b'"Snow on all tops above the huts this morning"', **SENT),
        },
        severity="fix",
    ),
}  # fmt: skip
