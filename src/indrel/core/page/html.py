"""HTML octets to facts, parsed as WHATWG HTML says (selectolax, Lexbor), scripting off.

This is the only module that knows the HTML parser. The parser gives no positions, so lines come from
searching the source for the tags, in order.
"""

from __future__ import annotations

import codecs
import hashlib
import html
import re
from collections.abc import Callable, Iterator
from typing import Any

from selectolax.lexbor import LexborHTMLParser

from indrel.core.address import Joiner
from indrel.core.page.facts import MAX_TEXT, Canonical, Directive, Link, LinkFlag, Origin, PageFacts, Reference
from indrel.core.page.tokens import Tokens, parse_content

MAX_DEPTH = 4_000
"""Elements nested deeper than any page means: the parser is quadratic there, so the rest is cut off."""

_SHORT_TEXT = 20_000

MAX_ATTRIBUTES = 2_000
"""Attributes on one tag: likewise."""

_TAG = re.compile(
    rb"<(a|area|meta|link|base|script|img|iframe|source|video|audio|embed|object|input)\b"
    rb"(?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>",
    re.IGNORECASE,
)
_ANY_TAG = re.compile(rb"<(/?)([a-zA-Z][^\s/>]*)[^>]*?(/?)>")
_OPAQUE = re.compile(rb"<!--.*?-->|<(script|style|title|textarea|noscript)\b.*?</\1\s*>", re.IGNORECASE | re.DOTALL)
_META_CHARSET = re.compile(rb"<meta[^>]{0,500}?charset\s*=\s*[\"']?\s*([A-Za-z0-9_.:-]+)", re.IGNORECASE)
_REFRESH = re.compile(
    r"^\s*([0-9]*)[0-9.]*\s*[;,\s]\s*(?:url\s*=\s*)?(?:\"([^\"]*)|'([^']*)|(.*))", re.IGNORECASE | re.DOTALL
)
_ASCII = bytes(range(0x20, 0x7F))
_DATA_CALL = re.compile(
    r"\bfetch\(\s*[\"'`]([^\"'`$\s]+)[\"'`]|\.open\(\s*[\"'][A-Z]+[\"']\s*,\s*[\"']([^\"'\s]+)[\"']"
)
_LONG_SCRIPT = 200_000
_LONG_TAG = 8_000
_TRIES = 20
_VOID = frozenset(
    b"area base br col embed hr img input link meta source track wbr p li dt dd tr td th option thead tbody tfoot "
    b"colgroup optgroup rp rt".split()
)
_ANCHORS = "a[href],area[href]"
_ANCHOR_TAG = re.compile(rb"<(?:a|area)[\s/](?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>", re.IGNORECASE)
_HREF = re.compile(rb"[\s\"'/]href\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>\"']+))", re.IGNORECASE)
_REL = re.compile(rb"[\s\"'/]rel\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>\"']+))", re.IGNORECASE)
_OTHERS = (
    "meta,link,script,style,img[src],iframe[src],source[src],video[src],audio[src],embed[src],object[data],input[src]"
)
_WEB_CODECS = {"iso8859-1": "cp1252", "ascii": "cp1252", "iso8859-9": "cp1254", "tis-620": "cp874"}
_REL_FLAGS = {"nofollow": LinkFlag.NOFOLLOW, "ugc": LinkFlag.UGC, "sponsored": LinkFlag.SPONSORED}
_RESOURCE_KINDS = {
    "script": "script", "img": "image", "iframe": "frame", "source": "media", "video": "media", "audio": "media",
    "embed": "embed", "object": "embed", "input": "image",
}  # fmt: skip
_LINK_KINDS = {
    "stylesheet": "style", "preload": "preload", "modulepreload": "script", "icon": "image", "manifest": "manifest",
    "prefetch": "preload",
}  # fmt: skip
_CANCELLING = ("hreflang", "lang", "media", "type")
_STANDARD_NAMES = frozenset({
    "description", "keywords", "viewport", "author", "generator", "application-name", "theme-color", "color-scheme",
    "referrer", "title", "subject", "copyright", "language", "rating", "revisit-after", "category", "format-detection",
})  # fmt: skip


def codec_name(label: str | None) -> str | None:
    """The codec that the web means by a charset label, or None where there is none."""
    if not label:
        return None
    try:
        name = codecs.lookup(label.strip().strip("\"'")).name
    except (LookupError, ValueError):
        return None
    return _WEB_CODECS.get(name, name)


def to_utf8(data: bytes, header_charset: str | None) -> tuple[bytes, str]:
    """The page's octets in UTF-8 and the charset they were read in: byte order mark, header, meta, guess."""
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8"),
        (codecs.BOM_UTF16_LE, "utf-16-le"),
        (codecs.BOM_UTF16_BE, "utf-16-be"),
    ):
        if data.startswith(mark):
            return data[len(mark) :].decode(name, "replace").encode(), name
    declared = codec_name(header_charset)
    if declared is None:
        found = _META_CHARSET.search(data[:4096])
        declared = codec_name(found[1].decode("ascii")) if found else None
        if declared and declared.startswith("utf-16"):
            declared = "utf-8"  # WHATWG HTML: a page that says so in ASCII is not UTF-16
    if declared in (None, "utf-8"):
        try:
            data.decode("utf-8")
            return data, "utf-8"
        except UnicodeDecodeError:
            if declared:
                return data.decode("utf-8", "replace").encode(), "utf-8"
            declared = _guess(data)
    try:
        return data.decode(declared, "replace").encode("utf-8", "replace"), declared
    except (LookupError, ValueError):  # codecs that are not text encodings
        return data.decode("cp1252", "replace").encode(), "cp1252"


def _guess(data: bytes) -> str:
    import charset_normalizer

    best = charset_normalizer.from_bytes(data[:32_768]).best()
    if best is None or _ASCII.decode(best.encoding, "replace") != _ASCII.decode("ascii"):
        return "cp1252"  # every charset in use on the web agrees with ASCII
    return best.encoding


def bound(data: bytes) -> tuple[bytes, str | None]:
    """Cut a page off where it is nested or attributed beyond reason; say where and why."""
    opened = data.count(b"<") - 2 * data.count(b"</") if len(data) > 3 * MAX_DEPTH else 0
    if opened > MAX_DEPTH:
        depth = 0
        for tag in _ANY_TAG.finditer(data):
            if tag[3] or tag[2].lower() in _VOID:
                continue
            depth += -1 if tag[1] else 1
            if depth > MAX_DEPTH:
                line = data.count(b"\n", 0, tag.start()) + 1
                problem = f"elements nested over {MAX_DEPTH} deep at line {line}: the rest was not read"
                return data[: tag.start()], problem
    if any(data.rfind(b">", i, i + _LONG_TAG) < 0 for i in range(0, len(data) - _LONG_TAG, _LONG_TAG)):
        for tag in re.finditer(rb"<[a-zA-Z][^>]{8000,}+", data):
            if len(re.findall(rb"[\s\"'][^\s=>\"'/]+", tag[0][:400_000])) > MAX_ATTRIBUTES:
                line = data.count(b"\n", 0, tag.start()) + 1
                problem = f"a tag with over {MAX_ATTRIBUTES} attributes at line {line}: the rest was not read"
                return data[: tag.start()], problem
    return data, None


class _Source:
    """Finds tags in the source, in order, for their line and text."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self._cursor: dict[str, int] = {}
        self._line_at = (0, 1)

    def line(self, at: int) -> int:
        """The line of an offset; quick when offsets grow."""
        last, line = self._line_at
        if at < last:
            return self.data.count(b"\n", 0, at) + 1
        line += self.data.count(b"\n", last, at)
        self._line_at = (at, line)
        return line

    def next(self, tag: str, value: str | None) -> tuple[int | None, str | None]:
        """Line and text of the next `tag` in the source that holds `value` in one of its attributes."""
        raw = (value or "").encode()
        at = self._cursor.get(tag, 0)
        for _ in range(_TRIES if raw else 0):
            at = self.data.find(raw, at)
            if at < 0:
                break
            begin = self.data.rfind(b"<", 0, at)
            found = _TAG.match(self.data, begin) if begin >= 0 else None
            if found and found.end() >= at and found[1].decode().lower() == tag:
                return self._take(tag, found)
            at += len(raw)
        for found in _TAG.finditer(self.data, self._cursor.get(tag, 0)):
            if found[1].decode().lower() == tag and (not raw or (value or "") in _unescape(found[0])):
                return self._take(tag, found)
        return None, None

    def _take(self, tag: str, found: re.Match[bytes]) -> tuple[int, str]:
        self._cursor[tag] = found.end()
        return self.line(found.start()), found[0][: MAX_TEXT * 4].decode("utf-8", "replace")[:MAX_TEXT]


def _attributes(node: Any) -> dict[str, str]:
    """A node's attributes; those without a value are empty."""
    return {name: value or "" for name, value in node.attributes.items()}


_NO_HREF: tuple[str | None, int] = (None, -1)


def _unescape(value: bytes) -> str:
    text = value.decode("utf-8", "replace")
    return html.unescape(text) if "&" in text else text


def _rel_flags(rel: str) -> int:
    flags = 0
    for token in rel.lower().split():
        flags |= _REL_FLAGS.get(token, 0)
    return flags


def _in_body(node: Any) -> bool:
    parent = node.parent
    while parent is not None:
        if parent.tag in ("head", "body"):
            return bool(parent.tag == "body")
        parent = parent.parent
    return False


def _written(tag: str, attributes: dict[str, str], text: str | None) -> str:
    """The tag as it stands in the source, or as the parser has it where the source does not show it."""
    if text is not None:
        return text
    inner = "".join(f' {name}="{html.escape(value)}"' for name, value in attributes.items())
    return f"<{tag}{inner}>"[:MAX_TEXT]


class _Reader:
    """Reads one page. `is_crawler` says whether a meta name is a crawler's token."""

    def __init__(self, data: bytes, url: str, joiner: Joiner, is_crawler: Callable[[str], bool]) -> None:
        self.tree = LexborHTMLParser(data)
        self.source = _Source(data)
        self.url = url
        self.base = url
        self.joiner = joiner
        self.is_crawler = is_crawler
        self.facts = PageFacts()
        self._links: dict[tuple[str, int], Link] = {}
        self._resources: dict[str, Reference] = {}

    def read(self) -> PageFacts:
        facts = self.facts
        if self.tree.root is None:
            facts.problem = "no HTML in it"
            return facts
        base = self.tree.css_first("base[href]")
        if base is not None:
            self.base = self.joiner.join(self.url, base.attributes.get("href") or "") or self.url
            facts.base = self.base
        self._anchors()
        inline = []
        for node in self.tree.css(_OTHERS):
            tag = node.tag or ""
            if tag == "meta":
                self._meta(node)
            elif tag == "link":
                self._link_element(node)
            elif tag in ("script", "style") and "src" not in node.attributes:
                inline.append(node)
                if tag == "script":
                    self._data_calls(node)
            else:
                self._resource(node, tag)
        facts.links = list(self._links.values())
        facts.resources = list(self._resources.values())
        if any(d.in_body for d in facts.directives) or any(c.in_body for c in facts.canonicals):
            self._head_end()
        self._text(inline)
        return facts

    def _anchors(self) -> None:
        """Links, from the source where it holds just the anchors of the tree (the common case, and quicker)."""
        nodes = self.tree.css(_ANCHORS)
        if not nodes:
            return
        written = _ANCHOR_TAG.findall(self.source.data)
        distinct = dict.fromkeys(written)
        known = self.joiner.anchors(self.base)
        pairs = [(tag, known.get(tag) or self._read_anchor(tag, known)) for tag in distinct]
        without = {tag for tag, pair in pairs if pair is _NO_HREF}
        if len(written) - (sum(1 for tag in written if tag in without) if without else 0) != len(nodes):
            for node in nodes:
                self._anchor_node(node)
            return
        at, own, links, source = 0, self.url, self._links, self.source
        for tag, pair in pairs:
            url = pair[0]
            if url is not None and url != own and pair not in links:
                at = max(source.data.find(tag, at), 0)
                text = tag[: MAX_TEXT * 4].decode("utf-8", "replace")[:MAX_TEXT]
                links[url, pair[1]] = Link(url, pair[1], source.line(at), text)

    def _read_anchor(self, tag: bytes, known: dict[bytes, tuple[str | None, int]]) -> tuple[str | None, int]:
        """The address and flags of an anchor as written; remembered unless they hold for this page alone."""
        begin = tag.find(b' href="') + 7
        if begin >= 7 and tag.find(b"&", begin) < 0:  # the common way to write it
            href = tag[begin : tag.find(b'"', begin)]
        else:
            found = _HREF.search(tag)
            if found is None:
                known[tag] = _NO_HREF
                return _NO_HREF
            href = _unescape(found[found.lastindex or 1]).encode()
        flags = 0
        if b"rel" in tag or b"REL" in tag or b"Rel" in tag:
            rel = _REL.search(tag)
            flags = _rel_flags(_unescape(rel[rel.lastindex or 1])) if rel else 0
        href = href.partition(b"#")[0].strip(b"\t\n\f\r ")
        if not href or href[:1] == b"?":
            return (self.joiner.join(self.base, href.decode("utf-8", "replace")), flags) if href else (None, flags)
        place = known.get(href)
        if place is None:
            place = known[href] = (self.joiner.join(self.base, href.decode("utf-8", "replace")), 0)
        pair = known[tag] = (place[0], flags)
        return pair

    def _anchor_node(self, node: Any) -> None:
        attributes = _attributes(node)
        href = attributes["href"]
        url = None if href.startswith("#") else self.joiner.join(self.base, href)
        flags = _rel_flags(attributes.get("rel", ""))
        if url and url != self.url and (url, flags) not in self._links:
            line, text = self.source.next(node.tag, href)
            self._links[url, flags] = Link(url, flags, line, _written(node.tag, attributes, text))

    def _meta(self, node: Any) -> None:
        attributes = _attributes(node)
        equiv = attributes.get("http-equiv", "").strip().lower()
        name = attributes.get("name", "").strip().lower()
        content = attributes.get("content", "")
        if equiv == "refresh":
            self._refresh(attributes, content)
            return
        void = None
        if name:
            if not self._is_robots_name(name, content):
                return
            if "content" not in attributes:
                void = "it has no content attribute" + (", only value" if "value" in attributes else "")
            elif not content.strip():
                void = "its content is empty"
        elif equiv == "x-robots-tag":
            void = "http-equiv is not read for robots"
        elif attributes.get("property", "").strip().lower() == "robots":
            void = "it says property where name is read"
        else:
            return
        line, text = self.source.next("meta", content or name or equiv)
        scope = "" if name in ("robots", "") else name
        tokens = Tokens(()) if void else parse_content(content)
        self.facts.directives.append(
            Directive(Origin.TAG, scope, tokens, _in_body(node), line, _written("meta", attributes, text), void)
        )

    def _is_robots_name(self, name: str, content: str) -> bool:
        if name == "robots" or self.is_crawler(name):
            return True
        if name in _STANDARD_NAMES or ":" in name or not content:
            return False
        tokens = parse_content(content)
        return bool(tokens.known) and not tokens.faults

    def _refresh(self, attributes: dict[str, str], content: str) -> None:
        found = _REFRESH.match(content)
        target = (found[found.lastindex or 1] if found and (found.lastindex or 1) > 1 else "").strip()
        if not found or not target or int(found[1] or 0) != 0 or self.facts.refresh_to:
            return
        self.facts.refresh_to = self.joiner.join(self.base, target)
        line, text = self.source.next("meta", content)
        self.facts.refresh_line, self.facts.refresh_text = line, _written("meta", attributes, text)

    def _link_element(self, node: Any) -> None:
        attributes = _attributes(node)
        rels = attributes.get("rel", "").lower().split()
        if "canonical" in rels:
            self._canonical(node, attributes)
        elif "alternate" in rels and attributes.get("hreflang") and attributes.get("href"):
            url = self.joiner.join(self.base, attributes["href"])
            if url:
                line, text = self.source.next("link", attributes["href"])
                text = _written("link", attributes, text)
                self.facts.alternates.append(Reference(url, attributes["hreflang"].lower(), line, text))
        else:
            kind = next((_LINK_KINDS[r] for r in rels if r in _LINK_KINDS), None)
            if kind and attributes.get("href"):
                self._add_resource("link", kind, attributes["href"], attributes)

    def _canonical(self, node: Any, attributes: dict[str, str]) -> None:
        href = attributes.get("href", "").strip()
        line, text = self.source.next("link", href or "canonical")
        cancelled = [name for name in _CANCELLING if name in attributes]
        url = self.joiner.join(self.base, href) if href else None
        fault = None
        if "href" not in attributes:
            fault = "it has no href"
        elif not href:
            fault = "its href is empty"
        elif url is None:
            fault = "it is not an http(s) address"
        elif cancelled:
            fault = f"its {cancelled[0]} attribute cancels it"
        self.facts.canonicals.append(
            Canonical(Origin.TAG, href, url, _in_body(node), line, _written("link", attributes, text), fault)
        )

    def _resource(self, node: Any, tag: str) -> None:
        attributes = _attributes(node)
        href = attributes.get("data" if tag == "object" else "src", "")
        if href:
            self._add_resource(tag, _RESOURCE_KINDS[tag], href, attributes)

    def _data_calls(self, node: Any) -> None:
        """Addresses that an inline script fetches, as far as they stand in it as they are."""
        script = node.text()
        for found in _DATA_CALL.finditer(script[:_LONG_SCRIPT]):
            url = self.joiner.join(self.base, found[1] or found[2])
            if url and url not in self._resources:
                at = self.source.data.find(found[0].encode())
                line = self.source.line(at) if at >= 0 else None
                self._resources[url] = Reference(url, "data", line, found[0][:MAX_TEXT])

    def _add_resource(self, tag: str, kind: str, href: str, attributes: dict[str, str]) -> None:
        if href.lstrip()[:5].lower() == "data:":
            return
        url = self.joiner.join(self.base, href)
        if url and url not in self._resources:
            line, text = self.source.next(tag, href)
            self._resources[url] = Reference(url, kind, line, _written(tag, attributes, text))

    def _head_end(self) -> None:
        """What ended the head: `</head>` or `<body>` as written, else the first thing that may not stand in it."""
        blank = _OPAQUE.sub(lambda m: re.sub(rb"[^\n]", b" ", m[0]), self.source.data)
        first = next(self._body_children(), None)
        explicit = re.search(rb"</head\b[^>]*>|<body\b[^>]*>", blank, re.IGNORECASE)
        at: re.Match[bytes] | None = None
        if first is not None and not first.is_text_node:
            pattern = rb"<" + re.escape(first.tag.encode()) + rb"\b[^>]*>"
            searched = self.source.data if first.tag in ("script", "style", "noscript", "textarea") else blank
            at = re.search(pattern, searched, re.IGNORECASE)
        if explicit and (at is None or explicit.start() < at.start()):
            at = explicit
        if at:
            self.facts.head_end = at[0][:MAX_TEXT].decode("utf-8", "replace")
            self.facts.head_end_line = self.source.data.count(b"\n", 0, at.start()) + 1
        elif first is not None:
            self.facts.head_end = (first.text() or "").strip()[:80]

    def _body_children(self) -> Iterator[Any]:
        child = self.tree.body.child if self.tree.body is not None else None
        while child is not None:
            if not child.is_comment_node and (not child.is_text_node or (child.text() or "").strip()):
                yield child
            child = child.next

    def _text(self, inline: list[Any]) -> None:
        facts = self.facts
        title = self.tree.css_first("head title") or self.tree.css_first("title")
        if title is not None:
            facts.title = " ".join(title.text().split())[:MAX_TEXT]
        if self.tree.body is None:
            return
        for node in inline:
            node.decompose()
        text = self.tree.body.text(separator=" ")
        facts.text_length = len(text)
        facts.excerpt = " ".join(text[: MAX_TEXT * 4].split())[:MAX_TEXT]
        if len(text) < _SHORT_TEXT:
            text = " ".join(text.split())  # white space differs between twins of short pages
            facts.text_length = len(text)
        digest = hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).digest()
        facts.text_hash = int.from_bytes(digest, "big", signed=True)


def read_page(
    data: bytes, url: str, charset: str | None, joiner: Joiner, is_crawler: Callable[[str], bool] = lambda _: False
) -> PageFacts:
    """Read one HTML page.

    `data` are the octets as served, `charset` what the Content-Type header says. Never fails on
    content; a page that had to be cut says so in `problem`.
    """
    text, codec = to_utf8(data, charset)
    text, problem = bound(text)
    facts = _Reader(text, url, joiner, is_crawler).read()
    facts.charset = codec
    facts.problem = problem or facts.problem
    return facts
