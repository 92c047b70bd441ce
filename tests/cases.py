"""For every check one small site on which it fires and one on which it stays quiet.

A site is a mapping of paths (or whole addresses) to bodies; `at` are the subjects expected. The
quiet site is the same with some answers changed.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from indrel.demo.site import Response

HOST = "https://www.sarnfell.example"
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


BASE = {
    "/robots.txt": robots("Disallow:", f"Sitemap: {HOST}/sitemap.xml"),
    "/sitemap.xml": sitemap("/"),
    "/": html(title="Start"),
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
                    **{"/": html(canonical("/p/a"), title="Start"), "/robots.txt": robots("Disallow: /p/"), "/p/a": TO}
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
        pair("noindex-wanted", NOINDEX, "", pages={"/": html(canonical("/a"), title="Start")}, severity="ask"),
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
        ("listed-folded", Case(listed("/a", html(canonical("/b"))), ("/a",), {"/a": html(canonical("/a"))})),
        ("listed-redirects", Case(listed("/a", moved("/b")), ("/a",), {"/a": TO})),
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
        robots_case("robots-tells-secrets", ["Disallow: /old/backup-2025/"], ["Disallow: /administration-fees/"]),
        robots_case("robots-too-long", ["#" * 512_000, "Disallow: /x"], ["Disallow: /x"]),
        robots_case("robots-encoding", ["Disallow: /\0"], ["Disallow: /\u00fc"]),
        robots_case("robots-rule-unused", ["Disallow: /nothing/"], ["Disallow: /a"], pages={"/": html(body=a("/a"))}),
        robots_case(
            "robots-case-slip", ["Disallow: /HUTS/"], ["Disallow: /huts/"], pages={"/": html(body=a("/huts/a"))}
        ),
        robots_case("robots-no-sitemap", [], [f"Sitemap: {HOST}/sitemap.xml"]),
        robots_case(
            "robots-overreach",
            ["Disallow: /news", f"Sitemap: {HOST}/sitemap.xml"],
            ["Disallow: /news/", f"Sitemap: {HOST}/sitemap.xml"],
            pages=listed("/newsletter", html()),
            severity="ask",
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
