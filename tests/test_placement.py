"""Where a robots tag ends up, as the tree construction of WHATWG HTML has it (section 13.2.6, scripting off).

Each source holds `@`, in whose place a robots tag is put; `head` or `body` is where it must be found,
None where it is no tag at all (inside a comment, text or template).
"""

from __future__ import annotations

import pytest

from indrel.core.address import Joiner
from indrel.core.page.html import read_page

TAG = '<meta name="robots" content="noindex">'
HEAD, BODY = False, True
PLACES: list[tuple[str, bool | None]] = [
    # "initial", "before html", "before head": what may stand before the head begins
    ("@", HEAD),
    ("<!doctype html>@", HEAD),
    ("<!-- c --><!doctype html><!-- c -->@", HEAD),
    ("<html>@", HEAD),
    ("<html> \n @", HEAD),
    ("<html><!-- c -->@", HEAD),
    ("\ufeff<!doctype html>@", HEAD),
    ("text@", BODY),
    ("<html>text@", BODY),
    ("</p>@", HEAD),
    ("</br>@", BODY),
    ("</html>@", BODY),
    ("</head>@", HEAD),
    ("</body>@", BODY),
    # "in head": elements that may stand there
    ("<head>@", HEAD),
    ("<head><title>t</title>@", HEAD),
    ("<head><base href=/>@", HEAD),
    ("<head><basefont>@", HEAD),
    ("<head><bgsound>@", HEAD),
    ("<head><link rel=x>@", HEAD),
    ("<head><meta charset=utf-8>@", HEAD),
    ("<head><style>p{}</style>@", HEAD),
    ("<head><script>1<2</script>@", HEAD),
    ("<head><noframes><p></noframes>@", HEAD),
    ("<head><template><p></p></template>@", HEAD),
    ("<head><noscript><link></noscript>@", HEAD),
    ("<head><noscript>@</noscript>", HEAD),
    ("<head><noscript><style></style><meta></noscript>@", HEAD),
    ("<head> \n\t @", HEAD),
    ("<head><!-- <p> -->@", HEAD),
    ("<head><head>@", HEAD),
    ("<head><html lang=en>@", HEAD),
    ("<head></p>@", HEAD),
    ("<head></div>@", HEAD),
    ("<head></template>@", HEAD),
    # what ends the head
    ("<head>text@", BODY),
    ("<head>&nbsp;@", BODY),
    ("<head><p>@", BODY),
    ("<head><div></div>@", BODY),
    ("<head><img>@", BODY),
    ("<head><iframe></iframe>@", BODY),
    ("<head><svg></svg>@", BODY),
    ("<head><custom-element></custom-element>@", BODY),
    ("<head><object></object>@", BODY),
    ("<head><noscript><img></noscript>@", BODY),
    ("<head><noscript>text</noscript>@", BODY),
    ("<head><noscript><p></noscript>@", BODY),
    ("<head></br>@", BODY),
    ("<head></body>@", BODY),
    ("<head></html>@", BODY),
    ("<head><title>t</title></title><a>@", BODY),
    ("<head><input type=hidden>@", BODY),
    # "after head"
    ("<head></head>@", HEAD),
    ("<head></head> \n@", HEAD),
    ("<head></head><!-- c -->@", HEAD),
    ("<head></head><title>t</title>@", HEAD),
    ("<head></head><link>@<body>", HEAD),
    ("<head></head></p>@", HEAD),
    ("<head></head>text@", BODY),
    ("<head></head><body>@", BODY),
    ("<head></head><div>@", BODY),
    ("<head></head></body>@", BODY),
    ("<body>@", BODY),
    ("<body></body>@", BODY),
    ("<body></body></html>@", BODY),
    ("<body><table>@<tr><td></table>", BODY),
    # no tag at all
    ("<head><!-- @ -->", None),
    ("<head><!-- x --!>@", HEAD),
    ("<head><!-- unclosed @", None),
    ("<head><title>@</title>", None),
    ("<head><style>@</style>", None),
    ("<head><script>@</script>", None),
    ("<head><script><!-- <script> @ </script> --></script>", None),
    ("<head><noframes>@</noframes>", None),
    ("<head><template>@</template>", None),
    ("<body><template><p>@</template>", None),
    ("<body><svg>@</svg>", BODY),
    ("<body><textarea>@</textarea>", None),
    ("<body><xmp>@</xmp>", None),
    ("<body><plaintext>@", None),
    ("<body><a title='@'>", None),
]


@pytest.mark.parametrize(("source", "place"), PLACES, ids=[s for s, _ in PLACES])
def test_where_the_tag_ends_up(source: str, place: bool | None) -> None:
    page = read_page(source.replace("@", TAG).encode(), "https://www.sarnfell.example/", "utf-8", Joiner())
    assert [d.in_body for d in page.directives] == ([] if place is None else [place])


def test_drawings_and_formulas_hold_no_html() -> None:
    """Anchors and links of SVG and MathML are no HTML elements, xlink:href is no href; HTML inside foreignObject is."""
    source = (
        b'<html><head><title>x</title></head><body><svg><a href="/svg">x</a><link rel="canonical" href="/c"/><a xlink:href="/xl">y</a>'
        b'<foreignObject><a href="/in">q</a></foreignObject></svg><math><a href="/m">z</a></math><a href="/html">x</a></body></html>'
    )
    facts = read_page(source, "https://www.sarnfell.example/", None, Joiner())
    assert [link.url for link in facts.links] == [f"https://www.sarnfell.example/{n}" for n in ("in", "html")]
    assert not facts.canonicals and facts.problem is None


@pytest.mark.parametrize("label", ["utf-7", "utf-32", "rot13", "idna", "nonsense"])
def test_what_is_no_encoding_of_the_web_is_not_obeyed(label: str) -> None:
    facts = read_page(b"<title>+ADw-b+AD4-</title>", "https://www.sarnfell.example/", label, Joiner())
    assert (facts.title, facts.charset) == ("+ADw-b+AD4-", "utf-8")
