"""Links of a page, and anchors that do not do what they seem to."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from indrel.base.plain import code
from indrel.core.address import Joiner
from indrel.core.page.facts import MAX_TEXT, Link, LinkFlag, Slip
from indrel.core.page.source import Source, attributes_of, unescape, written
from indrel.core.page.tokens import nearest

_ANCHORS = "a[href],area[href]"
_HIDING = ((b"<!--", b"-->"), (b"<script", b"</script"))
_FOREIGN = (b"<svg", b"<math")
_ANCHOR_TAG = re.compile(rb"<(?:a|area)[\s/](?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>", re.IGNORECASE)
_ATTRIBUTE = re.compile(rb"[\s/]*([^\s/>=][^\s/>=]*)(?:\s*=\s*(?:\"([^\"]*)\"|'([^']*)'|([^\s>]*)))?")
"""One attribute as the tokenizer of WHATWG HTML (13.2.5.32 on) takes it; what stands in a value is no attribute."""
_MOST_SLIPS = 50
_SLIP = 1 << 7
"""Beside link flags while a page is read: the rel holds a token that is near a known one."""

_IDLE = 1 << 8
"""Also: the href is empty, `#` or a script's."""

_PLAIN = re.compile(rb'<a(?: (?:class|id|title|target)="[^"]*")*+ href="([^"&#\s]*)(#[^"&]*)?"')
"""An anchor as is commonly written, up to its href; the place on the page stands apart."""

_OWN = (b"", b"?", b"j", b"J")
"""How hrefs begin that hold for one page alone, or may be a script's."""

_REL_FLAGS = {"nofollow": LinkFlag.NOFOLLOW, "ugc": LinkFlag.UGC, "sponsored": LinkFlag.SPONSORED}
_REL_KNOWN = ("nofollow", "ugc", "sponsored", "noopener", "noreferrer")
_REL_OTHERS = frozenset({
    "follow", "dofollow", "external", "friend", "met", "me", "next", "prev", "author", "license", "tag", "help",
    "search", "bookmark", "alternate", "archives", "index", "first", "last", "up", "home", "nofollow-link",
    "lightbox", "gallery", "category", "opener",
})  # fmt: skip
_ROUTE_NODES = ",".join(f'a[href^="{begin}#{mark}/"]' for begin in ("", "/") for mark in ("", "!"))
_ROUTES = (b'="#/', b"='#/", b'="/#/', b"='/#/", b"=#/", b"#!/")
_IDLE_NODES = '[onclick],a[href=""],a[href="#"],a[href^="javascript:" i]'
_NAVIGATES = re.compile(r"location\b|\.href|navigate|goto|\bopen\s*\(|router|history\.push", re.IGNORECASE)
_QUOTED = re.compile(r"""["']([^"'\s]+)["']""")
_CURRENT = re.compile(r"(?:^|[\s_-])(?:this|current|active|selected|here)(?:[\s_-]|$)", re.IGNORECASE)
_TOGGLES = ("aria-current", "aria-expanded", "aria-haspopup", "data-toggle", "data-bs-toggle", "aria-controls", "role")
_NO_HREF: tuple[str | None, int] = (None, 1 << 9)
_OWN_PLACE: tuple[str | None, int] = (None, 0)
"""A place on the page itself."""


def _rel_flags(rel: str) -> int:
    flags = 0
    for token in rel.lower().split():
        flags |= _REL_FLAGS.get(token) or (_SLIP if rel_slip(token) else 0)
    return flags


def link_flags(rel: str) -> int:
    """The flags that a rel attribute's tokens give."""
    return _rel_flags(rel) & ~_SLIP


def rel_slip(token: str) -> str | None:
    """The rel token that a misspelt one was meant to be, or the ones that stand joined in one, with a space between them; None
    where it is known or like none."""
    if token in _REL_KNOWN or len(token) < 3:
        return None
    several = re.split(r"[,;|]", token)
    if len(several) > 1:
        words = [rel_slip(word) or word for word in several if word]
        return " ".join(words) if any(word in _REL_FLAGS for word in words) else None
    squeezed = token.replace("-", "").replace("_", "")
    if squeezed in _REL_KNOWN:
        return squeezed
    near = nearest(token, _REL_KNOWN)
    return near if near in _REL_FLAGS and token not in _REL_OTHERS else None


def rel_slips(rel: str) -> dict[str, str]:
    """The tokens of a rel that have no effect, and the known ones that they were meant to be."""
    meant = {token: rel_slip(token) for token in rel.lower().split()}
    return {token: word for token, word in meant.items() if word}


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
    classes = f"{attributes.get('class', '')} {(node.parent.attributes.get('class') if node.parent else '') or ''}"
    if _CURRENT.search(classes):  # the page's own entry
        return True
    beside = node.parent.css_first("ul,ol,[role=menu]") if node.parent is not None else None
    return beside is not None and node.parent.tag == "li"


def written_value(tag: bytes, name: bytes) -> bytes | None:
    """The value of an attribute in a tag as written (`<a ...>`), the first of that name; None where there is none."""
    for found in _ATTRIBUTE.finditer(tag, re.match(rb"<\w+", tag).end(), len(tag) - 1):  # type: ignore[union-attr]
        if found[1].lower() == name:
            return found[found.lastindex] if found.lastindex and found.lastindex > 1 else b""
    return None


def _hides_anchors(lowered: bytes) -> bool:
    """Whether a comment or a script holds what looks like an anchor. The parser makes two elements of a wrongly nested one,
    so that the numbers in source and tree may then agree by chance."""
    for begin, end in _HIDING:
        at = lowered.find(begin)
        while at >= 0:
            until = lowered.find(end, at)
            until = len(lowered) if until < 0 else until
            if lowered.find(b"<a ", at, until) >= 0:
                return True
            at = lowered.find(begin, until)
    return False


class Anchors:
    """Reads the links of one page; `links` and `slips` hold what was found."""

    def __init__(
        self, tree: Any, source: Source, url: str, base: str, joiner: Joiner, user_parts: Sequence[str]
    ) -> None:
        self.tree = tree
        self.source = source
        self.url = url
        self.base = base
        self.joiner = joiner
        self.slips: list[Slip] = []
        self._links: dict[tuple[str, int], Link] = {}
        self._user_parts = user_parts

    @property
    def links(self) -> list[Link]:
        return list(self._links.values())

    def read(self) -> None:
        lowered, nodes = self.source.lowered, self.tree.css(_ANCHORS)
        foreign = self._foreign() if any(name in lowered for name in _FOREIGN) else set()
        html = [n for n in nodes if n.mem_id not in foreign] if foreign else nodes
        idle = self._anchors(html, len(html) == len(nodes))
        if idle is None or b"onclick" in lowered:
            idle = self.tree.css(_IDLE_NODES)
        if idle:
            self._uncrawlable(idle)
        if any(begin in lowered for begin in _ROUTES):
            self._routes()

    def _routes(self) -> None:
        """Links to views of this page behind `#/`: places on the page are no views."""
        source, told = Source(self.source.data), set()
        for node in self.tree.css(_ROUTE_NODES):
            attributes = attributes_of(node)
            href = attributes.get("href") or ""
            place, _, route = href.partition("#")
            on_this_page = not place or self.joiner.join(self.base, place) == self.url
            if not on_this_page or route in ("/", "!/") or route in told or len(self.slips) >= _MOST_SLIPS:
                continue
            told.add(route)
            line, text = source.anywhere(f'href="{href}"', "a")
            self.slips.append(Slip("hash", f"#{route}", line, written("a", attributes, text)))

    def _anchors(self, nodes: list[Any], all_html: bool) -> list[Any] | None:
        """Keep the links, from the source where it holds just the anchors of the tree (the common case, and quicker).

        Gives the ones that lead nowhere by themselves, or None where the source did not tell.
        """
        if not nodes:
            return []
        user = {a.mem_id for part in self._user_parts for p in self.tree.css(part) for a in p.css(_ANCHORS)}
        written = _ANCHOR_TAG.findall(self.source.data)
        distinct = dict.fromkeys(written)
        known = self.joiner.anchors(self.base)
        pairs = [(tag, known.get(tag) or self._read_anchor(tag, known)) for tag in distinct]
        odd = {tag: pair[1] for tag, pair in pairs if pair[1] >= _SLIP}
        with_href = [tag for tag in written if odd.get(tag) != _NO_HREF[1]] if odd else written
        if user or not all_html or len(with_href) != len(nodes) or _hides_anchors(self.source.lowered):
            for node in nodes:
                self._anchor_node(node, node.mem_id in user)
            return None
        at, own, links, source = 0, self.url, self._links, self.source
        for tag, pair in pairs:
            url, flags = pair
            if flags & _SLIP:
                pair = (url, flags & ~_SLIP)
                text = tag[:MAX_TEXT].decode("utf-8", "replace")
                self._rel_slip(unescape(written_value(tag, b"rel") or b""), source.line(source.data.find(tag)), text)
            if url is not None and url != own and pair not in links:
                at = max(source.data.find(tag, at), 0)
                text = tag[: MAX_TEXT * 4].decode("utf-8", "replace")[:MAX_TEXT]
                links[url, pair[1]] = Link(url, pair[1], source.line(at), text)
        return (
            [n for n, t in zip(nodes, with_href, strict=True) if odd.get(t, 0) & _IDLE and n.tag == "a"] if odd else []
        )

    def _foreign(self) -> set[int]:
        """Anchors of a drawing or a formula: they are no HTML elements (WHATWG HTML 13.2.6.5), and crawlers follow none."""
        within = {node.mem_id for node in self.tree.css("svg a,math a,svg area,math area")}
        return within - {node.mem_id for node in self.tree.css("foreignObject a,foreignObject area")}

    def _read_anchor(self, tag: bytes, known: dict[bytes, tuple[str | None, int]]) -> tuple[str | None, int]:
        """The address and flags of an anchor as written; remembered unless they hold for this page alone."""
        plain = _PLAIN.match(tag)
        if plain is not None and b"rel" not in tag.lower():
            href = plain[1]
            if href[:1] not in _OWN:
                pair = known[tag] = self._place(href, known)
                return pair
            if not href and len(plain[2] or b"#") > 1:
                return _OWN_PLACE
        value = written_value(tag, b"href")
        if value is None:
            known[tag] = _NO_HREF
            return _NO_HREF
        href = unescape(value).encode()
        flags = _rel_flags(unescape(written_value(tag, b"rel") or b"")) if b"rel" in tag.lower() else 0
        if href in (b"", b"#") or href[:11].lower() == b"javascript:":
            flags |= _IDLE
        href = href.partition(b"#")[0].strip(b"\t\n\f\r ")
        if not href or href[:1] == b"?":
            return (self.joiner.join(self.base, href.decode("utf-8", "replace")), flags) if href else (None, flags)
        pair = known[tag] = (self._place(href, known)[0], flags)
        return pair

    def _place(self, href: bytes, known: dict[bytes, tuple[str | None, int]]) -> tuple[str | None, int]:
        """Where an href without a place on its page leads, as an anchor without flags."""
        place = known.get(href)
        if place is None:
            place = known[href] = (self.joiner.join(self.base, href.decode("utf-8", "replace")), 0)
        return place

    def _anchor_node(self, node: Any, is_user: bool) -> None:
        attributes = attributes_of(node)
        href = attributes.get("href")
        if href is None:
            return
        url = None if href.startswith("#") else self.joiner.join(self.base, href)
        flags = _rel_flags(attributes.get("rel", "")) | (LinkFlag.USER if is_user else 0)
        if flags & _SLIP:
            flags &= ~_SLIP
            line, text = Source(self.source.data).next(node.tag, href)
            self._rel_slip(attributes["rel"], line, written(node.tag, attributes, text))
        if url and url != self.url and (url, flags) not in self._links:
            line, text = self.source.next(node.tag, href)
            self._links[url, flags] = Link(url, flags, line, written(node.tag, attributes, text))

    def _rel_slip(self, rel: str, line: int | None, text: str) -> None:
        """Keep the rel tokens of an anchor that are near the known ones: they have no effect."""
        slips = [
            f"tokens are separated by spaces: write {code(word)}"
            if " " in word
            else f"{code(token)} has no effect, write {code(word)}"
            for token, word in rel_slips(rel).items()
        ]
        what = "; ".join(slips)
        told = any(slip.text == text and slip.what == what for slip in self.slips)  # once for all anchors like it
        if slips and not told and len(self.slips) < _MOST_SLIPS:
            self.slips.append(Slip("rel", what, line, text))

    def _is_linked(self, script: str) -> bool:
        """Whether a script leads where a link of the page does, too, as on cards that may be clicked anywhere."""
        found = _QUOTED.search(script)
        url = self.joiner.join(self.base, found[1]) if found else None
        return url is not None and (url == self.url or (url, 0) in self._links)

    def _uncrawlable(self, nodes: list[Any]) -> None:
        """Navigation without an address: scripts that go elsewhere, and `#` or nothing in navigation."""
        source = Source(self.source.data)
        own = " ".join(
            n.text() for n in (self.tree.css_first("title"), self.tree.css_first("h1")) if n is not None
        ).lower()
        for node in nodes:
            attributes = attributes_of(node)
            href, script = attributes.get("href"), attributes.get("onclick", "")
            usable = href is not None and href.strip() not in ("", "#") and not _is_script(href)
            if usable or len(self.slips) >= _MOST_SLIPS:
                continue
            script += href if href and _is_script(href) else ""
            if _NAVIGATES.search(script):
                if self._is_linked(script):
                    continue
                what = "a script goes elsewhere"
            elif (node.text() or "").strip().lower() in own:
                continue  # the page's own entry
            elif node.tag == "a" and _in_navigation(node) and not _is_toggle(node, attributes):
                what = "href is empty" if not (href or "").strip() else "href is `#`"
            else:
                continue
            tag = node.tag or ""
            line, text = source.anywhere(script or f'href="{href}"', tag)
            self.slips.append(Slip("href", what, line, written(tag, attributes, text)))
