"""HTML bytes to facts, parsed as WHATWG HTML says (selectolax, Lexbor), scripting off.

This is the only module that knows the HTML parser. The parser gives no positions, so lines come from
searching the source for the tags, in order.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Sequence
from typing import Any

from selectolax.lexbor import LexborHTMLParser

from indrel.core.address import Joiner
from indrel.core.page.anchors import Anchors
from indrel.core.page.archives import is_archive, leads_to_archives
from indrel.core.page.facts import (
    LITTLE,
    MAX_TEXT,
    Canonical,
    Directive,
    Mark,
    Origin,
    PageFacts,
    Reference,
    Slip,
)
from indrel.core.page.head import head_end
from indrel.core.page.octets import as_html, bound, to_utf8
from indrel.core.page.sketch import fingerprint
from indrel.core.page.source import Source, attributes_of, in_body, outermost, written
from indrel.core.page.tokens import Tokens, parse_content
from indrel.core.page.wording import structured_data, wording_marks

_REFRESH = re.compile(
    r"^\s*([0-9]*)[0-9.]*\s*[;,\s]\s*(?:url\s*=\s*)?(?:\"([^\"]*)|'([^']*)|(.*))", re.IGNORECASE | re.DOTALL
)
_DATA_CALL = re.compile(
    r"\bfetch\(\s*[\"'`]([^\"'`$\s]+)[\"'`]|\.open\(\s*[\"'][A-Z]+[\"']\s*,\s*[\"']([^\"'\s]+)[\"']"
)
_MOST_FORMS = 5
_LONG_SCRIPT = 200_000
_LOOKED_AT_SCRIPT = 2_000
_LITERAL = re.compile(r"\"(?:[^\"\\]|\\.)*\"?|'(?:[^'\\]|\\.)*'?|\b[0-9][\w.]*")
_MAYBE_HANDLER = re.compile(rb"on[a-z]{3,20}\s*=")
_HANDLER = re.compile(rb"<[^<>]{1,2000}\bon[a-z]{3,20}\s*=|javascript:", re.IGNORECASE)
_SCRIPT_TYPES = frozenset({
    "", "module", "text/javascript", "application/javascript", "application/ecmascript", "text/ecmascript",
    "application/x-javascript", "application/x-ecmascript", "text/jscript", "text/x-javascript", "text/livescript",
})  # fmt: skip
_READ = "meta,link,style,script:not([src]),[src]:not(a,area,meta,link,style,object,form),object[data],form"
"""All that is read of a tree beside anchors, in one walk over it: each costs a tenth of what parsing does. No element is in
two parts, for it would be given twice."""

_PAGE_TAGS = re.compile(rb"<(?:!doctype|html|head|body|title)\b", re.IGNORECASE)
_RESOURCE_KINDS = {
    "script": "script", "img": "image", "iframe": "frame", "source": "media", "video": "media", "audio": "media",
    "embed": "embed", "object": "embed", "input": "image",
}  # fmt: skip
_LINK_KINDS = {
    "stylesheet": "style", "preload": "preload", "modulepreload": "script", "icon": "image", "manifest": "manifest",
    "prefetch": "preload",
}  # fmt: skip
_SHARED = "nav,footer,aside,body > header,[role]"
_SHARED_ROLES = frozenset({"navigation", "banner", "contentinfo", "search"})
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


def _is_shared(node: Any) -> bool:
    """Whether an element that `_SHARED` selects holds what pages have in common."""
    tag = node.tag
    if tag in ("nav", "footer", "aside") or (tag == "header" and node.parent is not None and node.parent.tag == "body"):
        return True
    return node.attributes.get("role") in _SHARED_ROLES


class _Reader:
    """Reads one page. `is_crawler` says whether a meta name is a crawler's token."""

    def __init__(
        self, data: bytes, url: str, joiner: Joiner, is_crawler: Callable[[str], bool], user_parts: Sequence[str]
    ) -> None:
        self.tree = LexborHTMLParser(data)
        self.source = Source(data)
        self.url = url
        self.base = url
        self.joiner = joiner
        self.is_crawler = is_crawler
        self.facts = PageFacts()
        self._resources: dict[str, Reference] = {}
        self._user_parts = user_parts
        self._scripts: list[str] = []
        self._data: list[str] = []
        self._og_type: str | None = None

    def read(self) -> PageFacts:
        facts = self.facts
        if self.tree.root is None:
            facts.problem = "no HTML in it"
            return facts
        base = self.tree.css_first("base[href]") if b"<base" in self.source.lowered else None
        if base is not None:
            self.base = self.joiner.join(self.url, base.attributes.get("href") or "") or self.url
            facts.base = self.base
        anchors = Anchors(self.tree, self.source, self.url, self.base, self.joiner, self._user_parts)
        anchors.read()
        facts.links, facts.slips = anchors.links, anchors.slips
        others = [(node.tag or "", node) for node in self.tree.css(_READ)]
        inline = self._read_others(others)
        facts.scripts = self._digest()
        self._search_forms([node for tag, node in others if tag == "form"])
        facts.resources = list(self._resources.values())
        if any(d.in_body for d in facts.directives) or any(c.in_body for c in facts.canonicals):
            facts.head_end, facts.head_end_line = head_end(self.source.data) or (None, None)
        self._text(inline)
        facts.types, facts.modified = structured_data(self._data, self._og_type)
        return facts

    def _read_others(self, nodes: list[tuple[str, Any]]) -> list[Any]:
        """Keep directives, canonicals, resources and the like; gives the elements whose text is none of the page's."""
        inline = []
        for tag, node in nodes:
            if tag == "meta":
                self._meta(node)
            elif tag == "link":
                self._link_element(node)
            elif tag in ("script", "style") and "src" not in node.attributes:
                inline.append(node)
                if tag == "script" and (node.attributes.get("type") or "").strip().lower() == "application/ld+json":
                    self._data.append(node.text())
                elif tag == "script":
                    self._data_calls(node)
                    self._runs(node, "")
            elif tag in _RESOURCE_KINDS:
                self._resource(node, tag)
                if tag == "script":
                    self._runs(node, node.attributes.get("src") or "")
        return inline

    def _runs(self, node: Any, src: str) -> None:
        """Take note of a script that a browser would run (WHATWG HTML 4.12.1)."""
        if (node.attributes.get("type") or "").strip().lower() in _SCRIPT_TYPES:
            url = self.joiner.join(self.base, src) if src else None
            self._scripts.append(url or _LITERAL.sub("", node.text()[:_LOOKED_AT_SCRIPT]))

    def _digest(self) -> int | None:
        """The page's scripts in one number; where only handlers in tags can run, they are one kind."""
        if not self._scripts:
            lowered = self.source.lowered  # in most pages without scripts the cheap searches find nothing either
            if b"javascript:" not in lowered and not _MAYBE_HANDLER.search(lowered):
                return None
            if not _HANDLER.search(self.source.data):
                return None
        return int.from_bytes(hashlib.blake2b("\0".join(self._scripts).encode(), digest_size=7).digest(), "big")

    def _search_forms(self, forms: list[Any]) -> None:
        """Forms that ask for what to search: where they lead, and the parameter that carries it (WHATWG HTML 4.10.18.6)."""
        found: set[str] = set()
        for form in forms:
            attributes = attributes_of(form)
            if (attributes.get("method") or "get").strip().lower() != "get":
                continue
            field = form.css_first("input[type=search i][name]")
            if field is None and (
                attributes.get("role") == "search" or (form.parent is not None and form.parent.tag == "search")
            ):
                field = form.css_first("input[type=text i][name],input:not([type])[name]")
            url = self.joiner.join(self.base, attributes.get("action") or "") if field is not None else None
            what = f"{url.partition('?')[0]} {attributes_of(field).get('name', '')}" if url else ""
            if url and len(what) <= MAX_TEXT and what not in found and len(found) < _MOST_FORMS:
                found.add(what)
                line, text = self.source.next("form", attributes.get("action"))
                self.facts.slips.append(Slip("search", what, line, written("form", attributes, text)))

    def _meta(self, node: Any) -> None:
        attributes = attributes_of(node)
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
            void = "it has property instead of name"
        elif attributes.get("property", "").strip().lower() == "og:type":
            self._og_type = content
            return
        else:
            return
        named = [attributes[a] for a in ("name", "property", "http-equiv") if attributes.get(a)]
        line, text = self.source.next("meta", content or name or equiv, *named)
        scope = "" if name in ("robots", "") else name
        tokens = Tokens(()) if void else parse_content(content)
        self.facts.directives.append(
            Directive(Origin.TAG, scope, tokens, in_body(node), line, written("meta", attributes, text), void)
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
        line, text = self.source.next("meta", content, attributes["http-equiv"])
        self.facts.refresh_line, self.facts.refresh_text = line, written("meta", attributes, text)

    def _link_element(self, node: Any) -> None:
        if self._in_drawing(node):
            return
        attributes = attributes_of(node)
        rels = attributes.get("rel", "").lower().split()
        if "canonical" in rels:
            self._canonical(node, attributes)
        elif "alternate" in rels and attributes.get("hreflang") and attributes.get("href"):
            url = self.joiner.join(self.base, attributes["href"])
            if url:
                line, text = self.source.next("link", attributes["href"], attributes["hreflang"])
                text = written("link", attributes, text)
                self.facts.alternates.append(Reference(url, attributes["hreflang"].lower(), line, text))
        else:
            kind = next((_LINK_KINDS[r] for r in rels if r in _LINK_KINDS), None)
            if kind and attributes.get("href"):
                self._add_resource("link", kind, attributes["href"], attributes)

    @staticmethod
    def _in_drawing(node: Any) -> bool:
        """Whether an element is one of a drawing's or a formula's: it is then no HTML element."""
        above = node.parent
        while above is not None and above.tag not in ("svg", "math"):
            if above.tag in ("head", "body", "foreignObject", "foreignobject"):
                return False
            above = above.parent
        return above is not None

    def _canonical(self, node: Any, attributes: dict[str, str]) -> None:
        href = attributes.get("href", "").strip()
        line, text = self.source.next("link", href or "canonical", attributes["rel"])
        cancelled = [name for name in _CANCELLING if name in attributes]
        url = self.joiner.join(self.base, href) if href else None
        fault = None
        if "href" not in attributes:
            fault = "it has no href"
        elif not href:
            fault = "its href is empty"
        elif url is None:
            fault = "it is not an http(s) URL"
        elif cancelled:
            fault = f"its {cancelled[0]} attribute cancels it"
        self.facts.canonicals.append(
            Canonical(Origin.TAG, href, url, in_body(node), line, written("link", attributes, text), fault)
        )

    def _resource(self, node: Any, tag: str) -> None:
        attributes = attributes_of(node)
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
            self._resources[url] = Reference(url, kind, line, written(tag, attributes, text))

    def _text(self, inline: list[Any]) -> None:
        """Title, heading, and what the page's own text tells. Takes the tree apart, so it comes last."""
        facts, body = self.facts, self.tree.body
        title = self.tree.css_first("head title") or self.tree.css_first("title")
        if title is not None:
            facts.title = " ".join(title.text().split())[:MAX_TEXT]
        if body is None:
            return
        for node in outermost(inline):
            node.decompose()
        whole = body.text(separator=" ")
        facts.text_length = len(whole)
        for node in outermost(n for n in self.tree.css(_SHARED) if _is_shared(n)):
            node.decompose()
        own = self._main() or self.tree.body or body
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
        facts.text_hash, facts.own_words, facts.sketch, facts.bag = found
        facts.own_links = len(own.css("a[href]"))
        if found.words <= LITTLE:
            facts.marks = wording_marks(text, [h for h in (facts.heading, facts.title) if h], found.words)
            facts.marks |= self._little_marks(own, found.words)
        if is_archive(path):
            joined = (self.joiner.join(self.base, attributes_of(a).get("href", "")) for a in own.css("a[href]"))
            facts.marks |= Mark.LISTS_NOTHING if leads_to_archives(self.url, [url for url in joined if url]) else 0

    def _main(self) -> Any:
        """The part of the page that is its own, where it says which."""
        lowered = self.source.lowered
        own = self.tree.css_first("main") if b"<main" in lowered else None
        return own or (self.tree.css_first("[role=main]") if b"role" in lowered else None)

    def _little_marks(self, own: Any, words: int) -> int:
        """Marks of pages that hold next to nothing."""
        marks = 0
        field = own.css_first("input[type=password i]") if b"assword" in self.source.lowered else None
        if field is not None:
            marks |= Mark.PASSWORD | (Mark.ONLY_PASSWORD if words <= LITTLE else 0)
            line, text = Source(self.source.data).next("input", field.attributes.get("type"))
            self.facts.slips.append(
                Slip("password", "asks for a password", line, written("input", attributes_of(field), text))
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
    xhtml: bool = False,
) -> PageFacts:
    """Read one HTML page.

    `data` are the bytes as served, `charset` what the Content-Type header says, `user_parts` CSS selectors of parts
    that visitors write; `xhtml` pages are XML by their content type. Never fails on content; a page that had to be cut
    says so in `problem`.
    """
    text, codec = to_utf8(data, charset)
    text, problem = bound(as_html(text) if xhtml else text)
    facts = _Reader(text, url, joiner, is_crawler, user_parts).read()
    facts.charset = codec
    facts.problem = problem or facts.problem
    return facts
