"""Addresses, directives, pages and sitemaps: octets in, facts out."""

from __future__ import annotations

import gzip

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cases import XMLNS
from indrel.base.readable import readable
from indrel.core.address import BARE_HOST, Joiner, host_name, normalise, site_key, split, variants
from indrel.core.page.head import head_end
from indrel.core.page.headers import content_type, has_relation, link_relations, looks_like_html
from indrel.core.page.html import read_page
from indrel.core.page.tokens import parse_content, parse_header
from indrel.core.sitemap import Child, Entry, SitemapReader

BASE = "https://www.sarnfell.example/huts/a?x=1"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("HTTPS://WWW.Sarnfell.Example:443/a/../%7eb/%c3%bc#f", "https://www.sarnfell.example/~b/%C3%BC"),
        ("https://www.sarnfell.example", "https://www.sarnfell.example/"),
        ("http://u:p@h.example:8080/a;b?q=1&r=%2f", "http://h.example:8080/a;b?q=1&r=%2F"),
        ("../b", "https://www.sarnfell.example/b"),
        ("?y=2", "https://www.sarnfell.example/huts/a?y=2"),
        ("//h.example/ü", "https://h.example/%C3%BC"),
        (" /a b\t", "https://www.sarnfell.example/a%20b"),
        ("#top", "https://www.sarnfell.example/huts/a?x=1"),
        ("mailto:a@h.example", None),
        ("javascript:void(0)", None),
        ("https://[bad/", None),
        ("/" + "a" * 9000, None),
    ],
)
def test_normalise(text: str, expected: str | None) -> None:
    assert normalise(text, BASE) == expected
    assert Joiner().join(BASE, text) == expected


@given(st.sampled_from(["https://www.sarnfell.example", "http://h.example", "https://A.example", "http://0x7f.1", "https://h.example:443"]),
       st.text(alphabet="ab/.?&=%2eé~ :#;@", max_size=12))  # fmt: skip
def test_what_is_known_of_an_origin_changes_nothing(origin: str, rest: str) -> None:
    """Plain addresses of an origin that was met are not parsed; what they come to is the same."""
    normalise(f"{origin}/")
    assert normalise(origin + rest) == normalise(origin + rest, f"{origin}/")


@given(st.text(alphabet="ab/.?&=%2eé~ :#;", max_size=30))
def test_normalising_again_changes_nothing(text: str) -> None:
    once = normalise("/" + text.replace("%", "%25"), BASE)
    assert once is None or normalise(once) == once


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("localhost:1313", "localhost:1313"), ("127.0.0.1:8080/huts/", "127.0.0.1:8080"), ("[::1]:81", "[::1]:81"),
        ("WWW.Hütte.example:8080/", "www.xn--htte-0ra.example:8080"), ("hut-box:3000", "hut-box:3000"), ("public", None), ("a b.c", None),
    ],
)  # fmt: skip
def test_hosts_as_people_name_them(text: str, name: str | None) -> None:
    assert bool(BARE_HOST.match(text)) is (name is not None)
    assert (
        name is None or host_name(text.partition("/")[0]) == name == split(normalise(f"http://{text}") or "").origin[7:]
    )


def test_parts_and_sites() -> None:
    assert split("http://h.example:81/a?b") == ("http", "h.example", 81, "http://h.example:81", "/a?b")
    assert site_key("http://h.example/") == site_key("https://h.example/x") != site_key("http://h.example:81/")
    assert variants("https://www.h.example/x") == ["http://www.h.example/", "https://h.example/", "http://h.example/"]
    assert variants("http://127.0.0.1/") == variants("http://h.example:81/") == variants("http://localhost/") == []


@pytest.mark.parametrize(
    ("content", "known", "faults"),
    [
        ("NOINDEX , Follow", ("noindex", "follow"), 0),
        ("none,max-snippet:0", ("none", "max-snippet:0"), 0),
        ("max-image-preview:huge", (), 1),
        ("noindex nofollow", (), 1),
        ("no-index", (), 1),
        (
            "unavailable_after: Fri, 25 Jun 2027 15:00:00 GMT, nofollow",
            ("unavailable_after:2027-06-25T15:00:00+00:00", "nofollow"),
            0,
        ),
        ("unavailable_after: 2027-06-25T15:00:00+02:00", ("unavailable_after:2027-06-25T13:00:00+00:00",), 0),
        ("unavailable_after: 25 Jun 27 15:00:00 PST", ("unavailable_after:2027-06-25T23:00:00+00:00",), 0),
        ("unavailable_after: whenever", (), 1),
        (",, ,", (), 0),
    ],
)
def test_tokens(content: str, known: tuple[str, ...], faults: int) -> None:
    found = parse_content(content)
    assert (found.known, len(found.faults)) == (known, faults)


def test_header_scopes() -> None:
    found = parse_header(
        "nofollow, googlebot: noindex, max-snippet:5, otherbot: unavailable_after: 25 Jun 2027 15:00:00 GMT"
    )
    assert [(scope, tokens.known) for scope, tokens in found] == [
        ("", ("nofollow",)),
        ("googlebot", ("noindex", "max-snippet:5")),
        ("otherbot", ("unavailable_after:2027-06-25T15:00:00+00:00",)),
    ]


@pytest.mark.parametrize(
    ("value", "scope", "fault"),
    [
        ("google bot: noindex", "google bot", "google bot:"),
        ("robots: noindex", "robots", "robots:"),
        ("Googlebot/2.1: noindex", "googlebot/2.1", "Googlebot/2.1:"),
        ("noindex: otherbot", "noindex", "noindex:"),
        ("unavailable_after: July 4, 2027 10:00:00 GMT", "", None),  # the comma is the date's
    ],
)
def test_unusable_scopes(value: str, scope: str, fault: str | None) -> None:
    found = parse_header(value)
    assert [name for name, _ in found] == [scope]
    assert [text for text, _ in found[0][1].faults][:1] == ([fault] if fault else [])


def test_headers() -> None:
    assert content_type("Text/HTML; charset=ISO-8859-1") == ("text/html", "ISO-8859-1")
    assert content_type(None) == ("", None)
    found = link_relations(['<https://h.example/a,b>; rel="canonical x"; title="a, \\"b", </n>; rel=next', "broken"])
    assert [target for target, _ in found] == ["https://h.example/a,b", "/n"]
    assert has_relation(found[0][1], "canonical") and not has_relation(found[1][1], "canonical")


META = '<meta name="robots" content="noindex">'
# WHATWG HTML, "in head", "after head" and "in body" insertion modes: what ends the head before the tag, if anything does
PLACES = [
    (f"<head>{META}</head>", None),
    (META, None),
    (f"<html lang=en>{META}", None),
    (f"<head></head>{META}<body>", None),
    (f"<head><title>x</title></head> <!-- c -->{META}<body>", None),
    (f"<head><script>document.write('<div>')</script>{META}", None),
    (f"<head><style>p{{}}</style><noscript><link></noscript>{META}", None),
    (f"<head><template><div></div></template></p>{META}", None),
    (f"<head><base href='/x/'><link rel=x>{META}", None),
    (f"<head><noscript><img src=x></noscript>{META}</head>", "<img src=x>"),
    (f"<head><noscript><title>a</title></noscript>{META}", None),
    (f"<head><noscript></body>x</noscript>{META}</head>", "x"),
    (f"<head><div></div>{META}</head>", "<div>"),
    (f"<head><svg></svg>{META}</head>", "<svg>"),
    (f"<head><my-tag></my-tag>{META}</head>", "<my-tag>"),
    (f"<head><img alt='>' src=x>{META}</head>", "<img alt='>' src=x>"),
    (f"<head><title>a</title> text {META}</head>", "text"),
    (f"<head><meta name=a content='b > c'>&nbsp;{META}</head>", "&nbsp;"),
    (f"<head>\ufeff{META}</head>", "U+FEFF, an invisible character"),
    (f"<head><!-- <p> --><!-->]>{META}", "]>"),
    (f"<head></head><body>{META}", "</head>"),
    (f"<head></head>text{META}", "</head>"),
    (f"<p>{META}", "<p>"),
    (f"<head><iframe></iframe>{META}", "<iframe>"),
    (f"<head><a href=/x>x</a>{META}", "<a href=/x>"),
    (f"<body>{META}</body>", "<body>"),
    (f"<head></br>{META}</head>", "</br>"),
]


@pytest.mark.parametrize(("source", "ended"), PLACES)
def test_where_a_tag_ends_up(source: str, ended: str | None) -> None:
    facts = read_page(f"<!doctype html>\n{source}".encode(), BASE, None, Joiner())
    assert [(d.in_body, d.tokens.known, d.line) for d in facts.directives] == [(ended is not None, ("noindex",), 2)]
    assert (facts.head_end, facts.head_end_line) == (ended, 2 if ended else None)


PIECES = (
    "<title>a < b</title>", "<base href=/>", "<link rel=x>", "<meta name='a' content='>'>", "<script>'<p>'</script>", "<style>p</style>",
    "<noscript>", "</noscript>", "<noscript/>", "<template>", "</template>", "<head>", "</head>", "<body>", "</body>", "<html>", "</html>",
    "<!-- <p> -->", "<!-->", "<!x>", "<?php x ?>", "</p>", "</br>", "<br/>", "<p title=a>", "<svg>", " ", "\n", "text", "&nbsp;", "\u200b",
    "a > b", "<noframes><p></noframes>", "</>", "</ x>", "<TITLE>A</TITLE>",
)  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), max_size=7), st.lists(st.sampled_from(PIECES), max_size=2))
def test_what_ended_the_head_is_what_the_parser_took_for_its_end(before: list[str], behind: list[str]) -> None:
    facts = read_page(f"<!doctype html>{''.join(before)}\n{META}{''.join(behind)}".encode(), BASE, None, Joiner())
    for one in facts.directives:
        found = head_end("".join(["<!doctype html>", *before]).encode())
        returned = (
            found is not None and found.text.lower() == "</head>"
        )  # tags behind it may still be taken into the head
        assert one.in_body is (found is not None) or (returned and not one.in_body)


CANONICAL = '<link rel="canonical" href="/x">'
NOT_THERE = [
    f"<!-- {CANONICAL}{META} -->",
    f"<!--> --><script>s = '{META}<!-- {CANONICAL}'</script>",
    f"<template>{META}{CANONICAL}</template><title>{META}</title>",
    f"<meta data-a='{META}' data-b='{CANONICAL}'><iframe srcdoc='<p>{META}</p>{CANONICAL}'></iframe>",
    '<link rel="home" href="/x"><meta property="og:title" content="noindex">',
    '<link rel="alternate" hreflang="en" href="/x"><meta name="googlebot" content="noindex">',
]


@pytest.mark.parametrize("before", NOT_THERE)
def test_a_line_is_that_of_the_tag_itself_and_not_of_one_that_looks_like_it(before: str) -> None:
    facts = read_page(
        f"<head>\n{before}\n{META}\n{CANONICAL}".encode(), BASE, None, Joiner(), lambda name: name == "googlebot"
    )
    assert [(d.line, d.text) for d in facts.directives if not d.scope] == [(3, META)]
    assert [(c.line, c.text) for c in facts.canonicals] == [(4, CANONICAL)]
    assert all(d.line == 2 for d in facts.directives if d.scope)


def test_page_facts() -> None:
    page = """<html><head><TITLE> A &amp; B
</TITLE><base href="/d/"><META CONTENT='NoIndex' NAME=Googlebot>
<meta property="robots" content="noindex"><meta http-equiv=X-Robots-Tag content=noindex><meta name=description content=all>
<link rel="canonical" href="c?a=1&amp;b=2#f"><link rel="alternate" hreflang="de" href="/de/"><link rel=stylesheet href=s.css>
<meta http-equiv="refresh" content="0; URL='/new'"></head>
<body><a href=one rel="NoFollow UGC">1</a><a href="one">1</a><a href=#x>x</a><a href="tel:1">t</a><!-- <a href=two> -->
<img src=i.png><script>var x = '<a href="three">'</script><a href="?q=ü">4</a></body></html>"""
    facts = read_page(page.encode("latin-1"), BASE, "ISO-8859-1", Joiner(), lambda name: name == "googlebot")
    host = "https://www.sarnfell.example"
    assert (facts.title, facts.base, facts.charset, facts.refresh_to) == (
        "A & B",
        f"{host}/d/",
        "cp1252",
        f"{host}/new",
    )
    assert [(d.scope, d.line, bool(d.void)) for d in facts.directives] == [
        ("googlebot", 2, False),
        ("", 3, True),
        ("", 3, True),
    ]
    assert [(c.url, c.line) for c in facts.canonicals] == [(f"{host}/d/c?a=1&b=2", 4)]
    assert [(a.url, int(a.flags), a.line) for a in facts.links] == [
        (f"{host}/d/one", 3, 6), (f"{host}/d/one", 0, 6), (f"{host}/d/?q=%C3%BC", 0, 7),
    ]  # fmt: skip
    assert [(r.url, r.kind) for r in facts.resources] == [(f"{host}/d/s.css", "style"), (f"{host}/d/i.png", "image")]
    assert [(r.url, r.kind) for r in facts.alternates] == [(f"{host}/de/", "de")]
    assert facts.excerpt == "1 1 x t 4"


@pytest.mark.parametrize(
    ("data", "charset", "title"),
    [
        ("<title>한국</title>".encode("euc-kr"), "euc-kr", "한국"),
        ('<meta charset="shift_jis"><title>日本</title>'.encode("shift_jis"), None, "日本"),
        ("\ufeff<title>x</title>".encode("utf-16"), None, "x"),
        (b"\xef\xbb\xbf<title>\xc3\xbc</title>", "iso-8859-1", "ü"),
        (
            "<title>Über die Hütten und Wege, für Gäste mit Gepäck</title>".encode("cp1252"),
            "nonsense-9",
            "Über die Hütten und Wege, für Gäste mit Gepäck",
        ),
    ],
)
def test_charsets(data: bytes, charset: str | None, title: str) -> None:
    assert read_page(data, BASE, charset, Joiner()).title == title


@pytest.mark.parametrize(
    ("body", "is_page"),
    [
     (b" \n<!DOCTYPE html><p>", True), (b"<p>Huts", True), (b"<!-- x --><p>", True), (b"<pre>x", False),
     (b"<?xml version='1.0'?><p>", False),
     (b"Thanks to A <a@h.example>", False), (b"", False)],
)  # fmt: skip
def test_a_body_without_a_type(body: bytes, is_page: bool) -> None:
    assert looks_like_html(body) is is_page


XHTML = b"""<?xml version="1.0"?>
<!DOCTYPE html [
  <!ENTITY hut "Hut">
]>
<html xmlns="http://www.w3.org/1999/xhtml"><head><title/><script src="/a.js" />
<meta name="robots" content="noindex"/></head><body><a href='/b'/></body></html>"""


@pytest.mark.parametrize(("xhtml", "told"), [(True, [(6, False)]), (False, [])])
def test_xhtml_is_read_as_xml(xhtml: bool, told: list[tuple[int, bool]]) -> None:
    """By the content type alone: to an HTML parser an empty title or script never ends."""
    facts = read_page(XHTML, BASE, None, Joiner(), xhtml=xhtml)
    assert [(one.line, one.in_body) for one in facts.directives] == told
    assert [link.line for link in facts.links] == [6] * xhtml


@given(
    st.lists(
        st.sampled_from([*"ab1_~-/.?=&:#%A \\", "..", "//", "https://www.sarnfell.example/", "/./", "http://"])
    ).map("".join)
)
def test_a_reference_that_is_not_parsed_is_as_if_it_were(href: str) -> None:
    for base in (BASE, "https://www.sarnfell.example/a/?q=/x/y", "http://h.example:8080/x/y/"):
        wanted = href.strip().partition("#")[0]
        assert Joiner().join(base, href) == (normalise(wanted, base) if wanted else base)


@given(st.binary(max_size=400) | st.text(alphabet="<>/ab='\" !-metalinkhrf\0", max_size=300).map(str.encode))
def test_any_octets_can_be_read(data: bytes) -> None:
    read_page(data, BASE, None, Joiner())


ATTRIBUTES = (
    "href=''", 'href="#"', 'href="#x"', "href=/x", 'href="/y?a=1&amp;b=2"', 'href="JavaScript:go()"', "rel=nofollow",
    'rel="no-follow"', "onclick=\"location='/z'\"", 'class="current"', 'title=\' href="/t"\'', "src=/s", "data=/o", "role=banner",
    "role=navigation", "name=robots", 'content="noindex"', "type=search",
)  # fmt: skip
ELEMENTS = st.builds(
    lambda name, attributes, inner: f"<{name} {' '.join(attributes)}>{inner}</{name}>\n",
    st.sampled_from(
        ["a", "area", "nav", "header", "main", "link", "meta", "script", "img", "object", "form", "svg", "li"]
    ),
    st.lists(st.sampled_from(ATTRIBUTES), max_size=3),
    st.sampled_from(["", "x", "</nav>", "<nav>", "<a href='/in'>i</a>"]),
)


@given(st.lists(ELEMENTS | st.just("<style src=/s></style>"), max_size=12).map("".join))
def test_anchors_read_from_the_source_are_those_of_the_tree(markup: str) -> None:
    """What a comment holds makes the source's anchors others than the tree's, so that these are read one by one."""
    read = [read_page(f"{markup}{more}".encode(), BASE, None, Joiner()) for more in ("", "<!-- <a href=/no> -->")]
    assert not read[0].problem
    quick, slow = ([(link.url, int(link.flags)) for link in facts.links] for facts in read)
    assert quick == slow
    assert {slip[:2] for slip in read[0].slips} == {slip[:2] for slip in read[1].slips}


def read_sitemap(data: bytes, step: int = 7) -> tuple[list[Entry | Child], SitemapReader]:
    reader = SitemapReader()
    items = [item for i in range(0, len(data), step) for item in reader.feed(data[i : i + step])]
    return items + reader.close(), reader


URLSET = f"""<?xml version="1.0" encoding="UTF-8"?>
<urlset {XMLNS} xmlns:image="https://h.example/image-ns">
<url><loc> https://h.example/a?x=1&amp;y=2 </loc><lastmod>2026-11-01</lastmod>
  <image:image><image:loc>https://h.example/i.png</image:loc></image:image></url>
<url><changefreq>daily</changefreq><loc><![CDATA[https://h.example/b]]></loc><priority>0.5</priority></url></urlset>""".encode()


def test_sitemap_forms() -> None:
    expected = [
        Entry("https://h.example/a?x=1&y=2", 3, 6, "2026-11-01"),
        Entry("https://h.example/b", 5, 36, None, "daily", "0.5"),
    ]
    for step in (1, 7, 100_000):
        assert read_sitemap(URLSET, step)[0] == expected
    items, reader = read_sitemap(gzip.compress(URLSET) + gzip.compress(b""))
    assert items == expected and reader.summary.gzipped and reader.summary.kind == "urlset"
    index = f"<sitemapindex {XMLNS}><sitemap><loc>https://h.example/s.xml</loc></sitemap></sitemapindex>"
    assert read_sitemap(index.encode())[0] == [Child("https://h.example/s.xml", 1, index.index("<loc>") + 1)]
    assert [e[:2] for e in read_sitemap("\ufeffhttps://h.example/a\r\n\nhttps://h.example/ü".encode())[0]] == [
        ("https://h.example/a", 1), ("https://h.example/ü", 3),
    ]  # fmt: skip
    rss = "<rss><channel><link>https://h.example/</link><item><link>https://h.example/p</link></item></channel></rss>"
    atom = '<feed xmlns="http://www.w3.org/2005/Atom"><entry><link href="https://h.example/p"/><updated>x</updated></entry></feed>'
    for feed in (rss, atom):
        assert [i.loc for i in read_sitemap(feed.encode())[0]] == ["https://h.example/p"]


@pytest.mark.parametrize(
    ("data", "kind", "error", "line"),
    [
        (URLSET[:-12], "urlset", "not well-formed", 5),
        (URLSET.replace(b"&amp;", b"&"), "urlset", "not well-formed", 3),
        (b"<!doctype html><title>x</title>", "html", "HTML page", None),
        (gzip.compress(URLSET)[:-10], "urlset", "ends too early", None),
        (b"\x1f\x8bnonsense" + b"x" * 600, "unknown", "gzip packing is broken", None),
        (b'<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><urlset>&e;</urlset>', "unknown", "entities", 1),
        (b"", "empty", None, None),
    ],
)
def test_sitemap_faults(data: bytes, kind: str, error: str | None, line: int | None) -> None:
    summary = read_sitemap(data)[1].summary
    assert (summary.kind, summary.line) == (kind, line)
    assert (error or "") in (summary.error or "") and bool(summary.error) is bool(error)


def test_sitemap_bomb_is_bounded() -> None:
    reader = SitemapReader()
    for _ in range(3):
        reader.feed(gzip.compress(b"<urlset>" + b" " * 60_000_000))
    reader.close()
    assert "longer than" in (reader.summary.error or "") and reader.summary.octets < 105_000_000 + 65_536


@pytest.mark.parametrize(
    ("tag", "target", "flags"),
    [
        ('<a title=\'see href="/wrong"\' href="/right">', "/right", 0),
        ("<a data-x='a rel=nofollow href=\"/wrong\"' href=/right>", "/right", 0),
        ('<a class="one two" href="/right" rel="nofollow">', "/right", 1),
        ('<a title="rel=nofollow" href="/right">', "/right", 0),
        ('<a href="/right" href="/wrong">', "/right", 0),
        ('<a HREF="/right" href="/wrong">', "/right", 0),
        ('<a title=it\'s href="/right">', "/right", 0),
    ],
)
def test_what_stands_in_another_attribute_is_no_address(tag: str, target: str, flags: int) -> None:
    page = f"<!doctype html><title>t</title><body>{tag}text</a>".encode()
    links = read_page(page, BASE, None, Joiner()).links
    assert [(one.url, int(one.flags)) for one in links] == [(f"https://www.sarnfell.example{target}", flags)]


@pytest.mark.parametrize(
    "text", ["<!-- {} -->", "<script>'{}'</script>", '<script type="application/json">{}</script>', "<style>{}</style>"]
)
def test_what_looks_like_tags_in_text_is_not_counted(text: str) -> None:
    """A robots tag behind thousands of tags that are only text is in effect; nothing is cut."""
    page = f"<!doctype html><head><title>t</title>{text.format('<div>' * 9_000)}{META}</head><body><a href=/x>x</a>".encode()
    facts = read_page(page, BASE, None, Joiner())
    assert facts.problem is None and [d.tokens.noindex for d in facts.directives] == [True] and facts.links


@pytest.mark.parametrize(
    ("url", "shown"),
    [
        ("https://xn--mnchen-3ya.example/h%C3%BCtte/", "https://m\u00fcnchen.example/h\u00fctte/"),
        ("https://xn--e1afmkfd.example/", "https://\u043f\u0440\u0438\u043c\u0435\u0440.example/"),
        ("https://xn--wgv71a.example/?a=%E6%97%A5", "https://\u65e5\u672c.example/?a=\u65e5"),
        ("https://xn--80ak6aa92e.example/", None),  # Cyrillic letters that all look like Latin ones
        ("https://xn--pple-43d.example/", None),  # one among Latin ones
        ("/x%E2%80%AEy%20z%0A%3Cb%3E", None),  # a direction mark, a space, a line break, markup
        ("/%D0%B0", None), ("/caf%C3%A9%ff", None), ("/plain/", None),
        ("/%3Cb%3E%C3%A4", "/%3Cb%3E\u00e4"),
    ],
)  # fmt: skip
def test_urls_are_shown_as_people_read_them(url: str, shown: str | None) -> None:
    assert readable(url) == (shown or url) and (
        shown is None or normalise(shown, "https://x.example/") == normalise(url, "https://x.example/")
    )
