"""A page's source: where its tags stand, for lines and exact texts. And small helpers over nodes of the tree."""

from __future__ import annotations

import html
import re
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import Any

from indrel.core.page.facts import MAX_TEXT

_TAG = re.compile(
    rb"<(a|area|meta|link|base|script|img|iframe|source|video|audio|embed|object|input|form)\b"
    rb"(?:[^>\"']++|\"[^\"]{0,20000}+\"|'[^']{0,20000}+')*+>",
    re.IGNORECASE,
)
_OPAQUE = re.compile(rb"<(?:!--|(script|style|title|textarea|template|noframes|noembed|iframe|xmp)\b)")
_ANY_TAG = re.compile(rb"<[a-z][^\s/>]*+(?:[^>\"']++|\"[^\"]*+\"|'[^']*+')*+>", re.IGNORECASE)
_QUOTED = (b'="<', b"='<", b"srcdoc")
_QUOTES = (b'"', b"'", b"=", b" ")
_AFTER = (b'"', b"'", b">", b" ", b"\n", b"#", b"/")
_TRIES = 20


class Source:
    """Finds tags in the source, in order, for their line and text."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self._cursor: dict[str, int] = {}
        self._line_at = (0, 1)
        self._opaque: list[tuple[int, int]] = []
        self._looked_to = 0

    @cached_property
    def lowered(self) -> bytes:
        """The source in lower case: a search for bytes in it is many times quicker than one that ignores case."""
        return self.data.lower()

    def line(self, at: int) -> int:
        """The line of an offset; quick when offsets grow."""
        last, line = self._line_at
        if at < last:
            return self.data.count(b"\n", 0, at) + 1
        line += self.data.count(b"\n", last, at)
        self._line_at = (at, line)
        return line

    def next(self, tag: str, value: str | None, *others: str) -> tuple[int | None, str | None]:
        """Line and text of the next `tag` in the source that holds `value` in one of its attributes, and all `others`."""
        raw = (value or "").encode()
        at = self._cursor.get(tag, 0)
        loose: re.Match[bytes] | None = None
        for _ in range(_TRIES if raw else 0):
            at = self.data.find(raw, at)
            if at < 0:
                break
            begin = self.data.rfind(b"<", 0, at)
            found = _TAG.match(self.data, begin) if begin >= 0 else None
            if found and found.end() >= at and self._is(found, tag, others):
                before, behind = self.data[at - 1 : at], self.data[at + len(raw) : at + len(raw) + 1]
                if before in _QUOTES and behind in _AFTER:
                    return self._take(tag, found)
                loose = loose or found
            at += len(raw)
        if loose:
            return self._take(tag, loose)
        wanted = (value, *others) if value else others
        for found in _TAG.finditer(self.data, self._cursor.get(tag, 0)):
            if self._is(found, tag, wanted):
                return self._take(tag, found)
        return self.next(tag, value) if others else (None, None)  # written in a way that is not compared

    def _is(self, found: re.Match[bytes], tag: str, values: Sequence[str]) -> bool:
        """Whether a tag is one that an element was made of: of that name, with those values, and neither commented out nor a
        part of a script or the like. The last is asked of tags with several values, which few are: it takes a look at all before."""
        if found[1].decode().lower() != tag:
            return False
        text = unescape(found[0]) if values else ""
        if not all(value in text for value in values):
            return False
        return not (values and (self._is_opaque(found.start()) or (self._may_quote and self._is_quoted(found.start()))))

    @cached_property
    def _may_quote(self) -> bool:
        return any(sign in self.lowered for sign in _QUOTED)

    def _is_quoted(self, at: int) -> bool:
        """Whether an offset lies in the value of another tag's attribute, as tags of a `srcdoc` do."""
        begin = at
        for _ in range(_TRIES):
            begin = self.data.rfind(b"<", 0, begin)
            if begin < 0:
                break
            found = _ANY_TAG.match(self.data, begin)
            if found is not None and found.end() > at:
                return True
        return False

    def _is_opaque(self, at: int) -> bool:
        """Whether an offset lies in a stretch of which an HTML parser makes no elements (WHATWG HTML 13.2.5)."""
        while self._looked_to <= at:
            found = _OPAQUE.search(self.lowered, self._looked_to, at)
            if found is None:
                break
            end = b"</" + found[1] if found[1] else b"-->"
            closed = self.lowered.find(end, found.end() - (0 if found[1] else 2))  # `<!-->` is closed
            self._looked_to = closed + len(end) if closed >= 0 else len(self.lowered) + 1
            self._opaque.append((found.start(), self._looked_to))
        before = bisect_right(self._opaque, (at, 0)) - 1
        return before >= 0 and at < self._opaque[before][1]

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


def attributes_of(node: Any) -> dict[str, str]:
    """A node's attributes; those without a value are empty."""
    return {name: value or "" for name, value in node.attributes.items()}


def unescape(value: bytes) -> str:
    text = value.decode("utf-8", "replace")
    return html.unescape(text) if "&" in text else text


def outermost(nodes: Iterable[Any]) -> list[Any]:
    """Nodes that stand in none of the others: what is removed of the tree must not be touched again."""
    chosen = {n.mem_id: n for n in nodes if n.tag not in ("html", "body")}

    def inside(node: Any) -> bool:
        parent = node.parent
        while parent is not None:
            if parent.mem_id in chosen:
                return True
            parent = parent.parent
        return False

    return [n for n in chosen.values() if not inside(n)]


def in_body(node: Any) -> bool:
    parent = node.parent
    while parent is not None:
        if parent.tag in ("head", "body"):
            return bool(parent.tag == "body")
        parent = parent.parent
    return False


def written(tag: str, attributes: dict[str, str], text: str | None) -> str:
    """The tag as is in the source, or as the parser has it where the source does not show it."""
    if text is not None:
        return text
    inner = "".join(f' {name}="{html.escape(value)}"' for name, value in attributes.items())
    return f"<{tag}{inner}>"[:MAX_TEXT]
