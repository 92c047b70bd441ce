"""HTML octets to facts, parsed as WHATWG HTML says (selectolax, Lexbor), scripting off.

This is the only module that knows the HTML parser. The parser gives no positions, so lines come from
searching the source for the tags, in order.
"""

from __future__ import annotations

import html
import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from selectolax.lexbor import LexborHTMLParser

from indrel.core.address import Joiner
from indrel.core.page.facts import (
    MAX_TEXT,
    Canonical,
    Directive,
    Link,
    LinkFlag,
    Mark,
    Origin,
    PageFacts,
    Reference,
    Slip,
)
from indrel.core.page.octets import bound, to_utf8
from indrel.core.page.tokens import Tokens, nearest, parse_content
from indrel.core.page.wording import LITTLE, data_types, fingerprint, wording_marks

_TAG = re.compile(
    rb"<(a|area|meta|link|base|script|img|iframe|source|video|audio|embed|object|input)\b"
    rb"(?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>",
    re.IGNORECASE,
)
_OPAQUE = re.compile(rb"<!--.*?-->|<(script|style|title|textarea|noscript)\b.*?</\1\s*>", re.IGNORECASE | re.DOTALL)
_REFRESH = re.compile(
    r"^\s*([0-9]*)[0-9.]*\s*[;,\s]\s*(?:url\s*=\s*)?(?:\"([^\"]*)|'([^']*)|(.*))", re.IGNORECASE | re.DOTALL
)
_DATA_CALL = re.compile(
    r"\bfetch\(\s*[\"'`]([^\"'`$\s]+)[\"'`]|\.open\(\s*[\"'][A-Z]+[\"']\s*,\s*[\"']([^\"'\s]+)[\"']"
)
_QUOTES = (b'"', b"'", b"=", b" ")
_AFTER = (b'"', b"'", b">", b" ", b"\n", b"#", b"/")
_LONG_SCRIPT = 200_000
_TRIES = 20
_ANCHORS = "a[href],area[href]"
_ANCHOR_TAG = re.compile(rb"<(?:a|area)[\s/](?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>", re.IGNORECASE)
_HREF = re.compile(rb"[\s\"'/]href\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>\"']+))", re.IGNORECASE)
_REL = re.compile(rb"[\s\"'/]rel\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>\"']+))", re.IGNORECASE)
_OTHERS = (
    "meta,link,script,style,img[src],iframe[src],source[src],video[src],audio[src],embed[src],object[data],input[src]"
)
_PAGE_TAGS = re.compile(rb"<(?:!doctype|html|head|body|title)\b", re.IGNORECASE)
_MOST_SLIPS = 50
_SLIP = 1 << 7
"""Beside link flags while a page is read: the rel holds a token that is near a known one."""

_REL_FLAGS = {"nofollow": LinkFlag.NOFOLLOW, "ugc": LinkFlag.UGC, "sponsored": LinkFlag.SPONSORED}
_RESOURCE_KINDS = {
    "script": "script", "img": "image", "iframe": "frame", "source": "media", "video": "media", "audio": "media",
    "embed": "embed", "object": "embed", "input": "image",
}  # fmt: skip
_LINK_KINDS = {
    "stylesheet": "style", "preload": "preload", "modulepreload": "script", "icon": "image", "manifest": "manifest",
    "prefetch": "preload",
}  # fmt: skip
_REL_KNOWN = ("nofollow", "ugc", "sponsored", "noopener", "noreferrer")
_REL_OTHERS = frozenset({
    "follow", "dofollow", "external", "friend", "met", "me", "next", "prev", "author", "license", "tag", "help",
    "search", "bookmark", "alternate", "archives", "index", "first", "last", "up", "home", "nofollow-link",
    "lightbox", "gallery", "category", "opener",
})  # fmt: skip
_SUSPECT = re.compile(rb"href\s*=\s*(?:[\"']\s*#?\s*[\"']|#[\s>])|javascript:|\bonclick\s*=", re.IGNORECASE)
_NAVIGATES = re.compile(r"location\b|\.href|navigate|goto|\bopen\s*\(|router|history\.push", re.IGNORECASE)
_TOGGLES = ("aria-expanded", "aria-haspopup", "data-toggle", "data-bs-toggle", "aria-controls", "role")
_SHARED = "nav,footer,aside,body > header,[role=navigation],[role=banner],[role=contentinfo],[role=search]"
_CANCELLING = ("hreflang", "lang", "media", "type")
_STANDARD_NAMES = frozenset({
    "description", "keywords", "viewport", "author", "generator", "application-name", "theme-color", "color-scheme",
    "referrer", "title", "subject", "copyright", "language", "rating", "revisit-after", "category", "format-detection",
})  # fmt: skip


def is_selector(text: str) -> bool:
    """Whether a text is a CSS selector that the parser understands."""
    try:
        LexborHTMLParser("<p></p>").css(text)
    except Exception:  # the parser's own error types vary
        return False
    return True


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
        loose: re.Match[bytes] | None = None
        for _ in range(_TRIES if raw else 0):
            at = self.data.find(raw, at)
            if at < 0:
                break
            begin = self.data.rfind(b"<", 0, at)
            found = _TAG.match(self.data, begin) if begin >= 0 else None
            if found and found.end() >= at and found[1].decode().lower() == tag:
                before, behind = self.data[at - 1 : at], self.data[at + len(raw) : at + len(raw) + 1]
                if before in _QUOTES and behind in _AFTER:
                    return self._take(tag, found)
                loose = loose or found
            at += len(raw)
        if loose:
            return self._take(tag, loose)
        for found in _TAG.finditer(self.data, self._cursor.get(tag, 0)):
            if found[1].decode().lower() == tag and (not raw or (value or "") in _unescape(found[0])):
                return self._take(tag, found)
        return None, None

    def anywhere(self, value: str, tag: str) -> tuple[int | None, str | None]:
        """Line and text of the next tag of any name that holds `value`."""
        at = self.data.find(value.encode(), self._cursor.get("", 0))
        begin = self.data.rfind(b"<" + tag.encode(), 0, at) if at >= 0 else -1
        end = self.data.find(b">", at + len(value.encode())) + 1 if begin >= 0 else 0
        if not end:
            return None, None
        self._cursor[""] = end
        return self.line(begin), self.data[begin:end][: MAX_TEXT * 4].decode("utf-8", "replace")[:MAX_TEXT]

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
        flags |= _REL_FLAGS.get(token) or (_SLIP if rel_slip(token) else 0)
    return flags


def rel_slip(token: str) -> str | None:
    """The rel token that a misspelt one was meant to be, or None where it is known or like none."""
    if token in _REL_KNOWN or len(token) < 3:
        return None
    squeezed = token.replace("-", "").replace("_", "")
    if squeezed in _REL_KNOWN:
        return squeezed
    near = nearest(token, _REL_KNOWN)
    return near if near in _REL_FLAGS and token not in _REL_OTHERS else None


def _is_script(href: str) -> bool:
    return href.lstrip()[:11].lower() == "javascript:"


def _in_navigation(node: Any) -> bool:
    parent = node.parent
    while parent is not None:
        if parent.tag == "nav" or parent.attributes.get("role") in ("navigation", "menubar"):
            return True
        parent = parent.parent
    return False


def _is_toggle(node: Any, attributes: dict[str, str]) -> bool:
    """Whether an anchor opens a menu that stands beside it, rather than being the way somewhere."""
    if any(name in attributes for name in _TOGGLES):
        return True
    beside = node.parent.css_first("ul,ol,[role=menu]") if node.parent is not None else None
    return beside is not None and node.parent.tag == "li"


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

    def __init__(
        self, data: bytes, url: str, joiner: Joiner, is_crawler: Callable[[str], bool], user_parts: Sequence[str]
    ) -> None:
        self.tree = LexborHTMLParser(data)
        self.source = _Source(data)
        self.url = url
        self.base = url
        self.joiner = joiner
        self.is_crawler = is_crawler
        self.facts = PageFacts()
        self._links: dict[tuple[str, int], Link] = {}
        self._resources: dict[str, Reference] = {}
        self._user_parts = user_parts
        self._og_type: str | None = None

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
        inline, data = [], []
        for node in self.tree.css(_OTHERS):
            tag = node.tag or ""
            if tag == "meta":
                self._meta(node)
            elif tag == "link":
                self._link_element(node)
            elif tag in ("script", "style") and "src" not in node.attributes:
                inline.append(node)
                if tag == "script" and (node.attributes.get("type") or "").strip().lower() == "application/ld+json":
                    data.append(node.text())
                elif tag == "script":
                    self._data_calls(node)
            else:
                self._resource(node, tag)
        if _SUSPECT.search(self.source.data):
            self._uncrawlable()
        facts.links = list(self._links.values())
        facts.resources = list(self._resources.values())
        if any(d.in_body for d in facts.directives) or any(c.in_body for c in facts.canonicals):
            self._head_end()
        self._text(inline)
        facts.types = data_types(data, self._og_type)
        return facts

    def _anchors(self) -> None:
        """Links, from the source where it holds just the anchors of the tree (the common case, and quicker)."""
        nodes = self.tree.css(_ANCHORS)
        if not nodes:
            return
        user = {a.mem_id for part in self._user_parts for p in self.tree.css(part) for a in p.css(_ANCHORS)}
        written = _ANCHOR_TAG.findall(self.source.data)
        distinct = dict.fromkeys(written)
        known = self.joiner.anchors(self.base)
        pairs = [(tag, known.get(tag) or self._read_anchor(tag, known)) for tag in distinct]
        without = {tag for tag, pair in pairs if pair is _NO_HREF}
        if user or len(written) - (sum(1 for tag in written if tag in without) if without else 0) != len(nodes):
            for node in nodes:
                self._anchor_node(node, node.mem_id in user)
            return
        at, own, links, source = 0, self.url, self._links, self.source
        for tag, pair in pairs:
            if pair[1] & _SLIP and pair is not _NO_HREF:
                pair = (pair[0], pair[1] & ~_SLIP)
                rel = _REL.search(tag)
                text = tag[:MAX_TEXT].decode("utf-8", "replace")
                self._rel_slip(
                    _unescape(rel[rel.lastindex or 1]) if rel else "", source.line(source.data.find(tag)), text
                )
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

    def _anchor_node(self, node: Any, is_user: bool) -> None:
        attributes = _attributes(node)
        href = attributes["href"]
        url = None if href.startswith("#") else self.joiner.join(self.base, href)
        flags = _rel_flags(attributes.get("rel", "")) | (LinkFlag.USER if is_user else 0)
        if flags & _SLIP:
            flags &= ~_SLIP
            line, text = _Source(self.source.data).next(node.tag, href)
            self._rel_slip(attributes["rel"], line, _written(node.tag, attributes, text))
        if url and url != self.url and (url, flags) not in self._links:
            line, text = self.source.next(node.tag, href)
            self._links[url, flags] = Link(url, flags, line, _written(node.tag, attributes, text))

    def _rel_slip(self, rel: str, line: int | None, text: str) -> None:
        """Keep the rel tokens of an anchor that are near the known ones: they have no effect."""
        meant = {token: rel_slip(token) for token in rel.replace(",", " ").lower().split()}
        slips = [f"`{token}` has no effect; `{word}` was probably meant" for token, word in meant.items() if word]
        if slips and len(self.facts.slips) < _MOST_SLIPS:
            self.facts.slips.append(Slip("rel", "; ".join(slips), line, text))

    def _uncrawlable(self) -> None:
        """Navigation without an address: scripts that go elsewhere, and `#` or nothing in navigation."""
        source = _Source(self.source.data)
        for node in self.tree.css('[onclick],a[href=""],a[href="#"],a[href^="javascript:" i]'):
            attributes = _attributes(node)
            href, script = attributes.get("href"), attributes.get("onclick", "")
            usable = href is not None and href.strip() not in ("", "#") and not _is_script(href)
            if usable or len(self.facts.slips) >= _MOST_SLIPS:
                continue
            script += href if href and _is_script(href) else ""
            if _NAVIGATES.search(script):
                what = "a script goes elsewhere"
            elif node.tag == "a" and _in_navigation(node) and not _is_toggle(node, attributes):
                what = "its href is empty" if not (href or "").strip() else "its href is `#`"
            else:
                continue
            tag = node.tag or ""
            line, text = source.anywhere(script if not href else f'href="{href}"', tag)
            self.facts.slips.append(Slip("href", what, line, _written(tag, attributes, text)))

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
        elif attributes.get("property", "").strip().lower() == "og:type":
            self._og_type = content
            return
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
        """Title, heading, and what the page's own text tells. Takes the tree apart, so it comes last."""
        facts, body = self.facts, self.tree.body
        title = self.tree.css_first("head title") or self.tree.css_first("title")
        if title is not None:
            facts.title = " ".join(title.text().split())[:MAX_TEXT]
        if body is None:
            return
        for node in inline:
            node.decompose()
        whole = body.text(separator=" ")
        facts.text_length = len(whole)
        for node in self.tree.css(_SHARED):
            node.decompose()
        own = self.tree.css_first("main") or self.tree.css_first("[role=main]") or self.tree.body or body
        text = own.text(separator=" ") or ""
        if not text.strip():
            own, text = body, whole  # all of it stands in what is usually shared
        heading = own.css_first("h1")
        facts.heading = " ".join(heading.text().split())[:MAX_TEXT] if heading is not None else None
        facts.excerpt = " ".join(text[: MAX_TEXT * 4].split())[:MAX_TEXT]
        path = self.url[self.url.index("/", 8) :]
        told = text.replace(self.url, " ")
        told = told.replace(path, " ") if len(path) > 3 else told  # error pages repeat what was asked for
        found = fingerprint(told)
        facts.text_hash, facts.own_words, facts.sketch = found
        facts.own_links = len(own.css("a[href]"))
        if found.words <= LITTLE:
            facts.marks = wording_marks(text, [h for h in (facts.heading, facts.title) if h], found.words)
            facts.marks |= self._little_marks(own, found.words)

    def _little_marks(self, own: Any, words: int) -> int:
        """Marks of pages that hold next to nothing."""
        marks = 0
        field = own.css_first("input[type=password i]") if b"assword" in self.source.data.lower() else None
        if field is not None:
            marks |= Mark.PASSWORD | (Mark.ONLY_PASSWORD if words <= LITTLE else 0)
            line, text = _Source(self.source.data).next("input", field.attributes.get("type"))
            self.facts.slips.append(
                Slip("password", "asks for a password", line, _written("input", _attributes(field), text))
            )
        if words and not _PAGE_TAGS.search(self.source.data):
            marks |= Mark.FRAGMENT
        return int(marks)


def read_page(
    data: bytes,
    url: str,
    charset: str | None,
    joiner: Joiner,
    is_crawler: Callable[[str], bool] = lambda _: False,
    user_parts: Sequence[str] = (),
) -> PageFacts:
    """Read one HTML page.

    `data` are the octets as served, `charset` what the Content-Type header says, `user_parts` CSS
    selectors of parts that visitors write. Never fails on content; a page that had to be cut says
    so in `problem`.
    """
    text, codec = to_utf8(data, charset)
    text, problem = bound(text)
    facts = _Reader(text, url, joiner, is_crawler, user_parts).read()
    facts.charset = codec
    facts.problem = problem or facts.problem
    return facts
