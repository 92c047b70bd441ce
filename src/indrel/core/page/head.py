"""What ended a page's head, for tags that stand behind it: WHATWG HTML 13.2.6.4.4 to 13.2.6.4.6, over the source."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from html import unescape
from typing import NamedTuple

from indrel.core.page.facts import MAX_TEXT

_TOKEN = re.compile(
    rb"<!--(?:-?>|.*?(?:--!?>|\Z))|<(?=[!?]|/[^a-zA-Z])[^>]*+>"
    rb"|<(?P<end>/?)(?P<name>[a-zA-Z][^\s/>]*+)(?:[^>=]++|=[ \t\n\f\r]*+(?:\"[^\"]*+\"|'[^']*+')?)*+>"
    rb"|(?P<text>[^<]++|<)",
    re.DOTALL,
)
_BLANK = " \t\n\f\r"
"""White space that may stand in a head; a no-break space, say, may not."""

_RAW = frozenset({"script", "style", "noframes", "title"})
_ALLOWED = frozenset({"base", "basefont", "bgsound", "link", "meta", "head", "noscript", "template", *_RAW})
_ALLOWED_UNSCRIPTED = frozenset({"basefont", "bgsound", "link", "meta", "noframes", "style", "head", "noscript"})
_ENDING = frozenset({"head", "body", "html", "br"})
"""End tags that end a head, though but one is meant to; others are ignored."""


class HeadEnd(NamedTuple):
    """What ended a head, as written, and its line."""

    text: str
    line: int


def head_end(data: bytes) -> HeadEnd | None:
    """What ended the head of a page in UTF-8: its end tag, the body's tag, or the first thing that may not stand in a head."""
    unscripted = False
    for found in _tokens(data):
        name, is_end = (found["name"] or b"").lower().decode("utf-8", "replace"), bool(found["end"])
        if found["text"]:
            if shown := _told(found[0].decode("utf-8", "replace")):
                return HeadEnd(shown, _line(data, found))
        elif not name or (name == "html" and not is_end):
            continue
        elif unscripted and ((is_end and name != "br") or name in _ALLOWED_UNSCRIPTED):
            unscripted = not (is_end and name == "noscript")
        elif name in _ENDING if is_end else name not in _ALLOWED:
            return HeadEnd(found[0][:MAX_TEXT].decode("utf-8", "replace"), _line(data, found))
        else:  # what may stand in a head, but not in its `noscript`, ends that
            unscripted = name == "noscript" and not is_end
    return None


def _tokens(data: bytes) -> Iterator[re.Match[bytes]]:
    """Tags, comments and texts in order, without what scripts, style sheets, titles and templates hold."""
    at = templates = 0
    while found := _TOKEN.match(data, at):
        at = found.end()
        name, is_end = (found["name"] or b"").lower(), bool(found["end"])
        if not templates:
            yield found
        if name == b"template":
            templates = max(0, templates - 1) if is_end else templates + 1
        if name.decode("utf-8", "replace") in _RAW and not is_end:
            closed = re.compile(rb"</" + name + rb"(?=[\s/>])", re.IGNORECASE).search(data, at)
            at = closed.start() if closed else len(data)


def _told(text: str) -> str:
    """A text between tags as it should be shown: as written, or what an invisible one consists of. Empty where it is blank."""
    if not unescape(text).strip(_BLANK):
        return ""
    shown = text.strip(_BLANK)
    if all(unicodedata.category(c) in ("Cf", "Cc", "Zs") for c in shown):
        return f"U+{ord(shown[0]):04X}, an invisible character"
    return shown[:80]


def _line(data: bytes, found: re.Match[bytes]) -> int:
    """The line of a tag, or of a text's first byte that is not blank."""
    begin = found.start() + len(found[0]) - len(found[0].lstrip(_BLANK.encode()))
    return data.count(b"\n", 0, begin) + 1
