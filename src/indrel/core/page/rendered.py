"""What a page says once its scripts have run: from the live tree's values to facts in the terms of the served page."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from indrel.core.address import normalise
from indrel.core.page.anchors import link_flags
from indrel.core.page.facts import MAX_TEXT, Canonical, Directive, Link, LinkFlag, Mark, Origin
from indrel.core.page.sketch import fingerprint
from indrel.core.page.tokens import Tokens, parse_content
from indrel.core.page.wording import wording_marks

OK, EMPTY, ERROR, NONE = "ok", "empty", "error", "none"

NO_WORDS = 4
"""Under so many words, and with nothing to look at, a page is empty."""

FEW_WORDS = 40
"""Under so many words a text may be nothing but an error's."""

WAITING_WORDS = 12

_FAILED = re.compile(
    r"\b(could ?n.?t|could not|cannot|can.?t|unable to|failed to|error) (be )?(load|fetch|retriev|connect|reach|get|show|display)"
    r"\w*|\b(failed|error) (while )?(loading|fetching)\b|\bloading (failed|error)\b|\bsomething went wrong\b|\ban? (unexpected )?"
    r"error (has )?occurred\b|\b(please )?try again( later)?\b|\b(is |are )?(currently |temporarily )?(not available|unavailable)\b"
    r"|\bnetwork error\b|\bnot (be )?loaded\b|\bfehler beim laden\b|\bkonnte\w* nicht geladen\b|\berreur de chargement\b"
    r"|\berror al cargar\b|\berrore? (nel|di) caricamento\b",
    re.IGNORECASE,
)
_WAITING = re.compile(
    r"\b(loading|please wait|wird geladen|lädt|chargement|cargando|caricamento|laden)\b", re.IGNORECASE
)


@dataclass
class Rendered:
    """A rendered page's facts. `outcome` is ok, empty or error; `links` have `LinkFlag.RENDERED`."""

    outcome: str
    title: str
    text_hash: int
    words: int
    sketch: bytes | None
    excerpt: str
    directives: list[Directive] = field(default_factory=list)
    canonicals: list[Canonical] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)


def outcome_of(text: str, headings: list[str], words: int, shows: bool) -> str:
    """Whether a text is one, next to none, or an error's alone. `shows`: there is something beside it to look at."""
    marks = wording_marks(text, headings, words)
    if marks & Mark.SAYS_ERROR or (words < FEW_WORDS and _FAILED.search(text)):
        return ERROR
    if words <= WAITING_WORDS and _WAITING.search(text):
        return EMPTY
    return EMPTY if words < NO_WORDS and not shows else OK


def read_seen(seen: Mapping[str, Any], is_crawler: Callable[[str], bool]) -> Rendered:
    """Facts of a page's live tree. `seen` are the values read from it: texts as the page's scripts left them."""
    text = str(seen.get("text") or "")
    told = fingerprint(text)
    title = " ".join(str(seen.get("title") or "").split())[:MAX_TEXT]
    headings = [h for h in (str(seen.get("heading") or ""), title) if h]
    found = Rendered(
        outcome_of(text, headings, told.words, bool(seen.get("shows"))), title, told.text_hash, told.words, told.sketch,
        " ".join(text.split())[:MAX_TEXT],
    )  # fmt: skip
    for meta in seen.get("metas") or ():
        name, content = str(meta.get("name") or "").strip().lower(), str(meta.get("content") or "")
        if name != "robots" and not is_crawler(name):
            continue
        tokens = parse_content(content) if content.strip() else Tokens(())
        found.directives.append(
            Directive(
                Origin.TAG, "" if name == "robots" else name, tokens, bool(meta["body"]), None, _cut(meta["text"])
            )
        )
    base = str(seen.get("base") or "")
    for one in seen.get("canonicals") or ():
        href = str(one.get("href") or "").strip()
        url = normalise(href, base) if href else None
        fault = None if url else "it is not an http(s) URL" if href else "its href is empty"
        if one.get("off"):
            fault = f"its {one['off']} attribute cancels it"
        found.canonicals.append(Canonical(Origin.TAG, href, url, bool(one["body"]), None, _cut(one["text"]), fault))
    known: set[tuple[str, int]] = set()
    for link in seen.get("links") or ():
        url = normalise(str(link["href"]))
        flags = link_flags(str(link.get("rel") or "")) | LinkFlag.RENDERED
        if url and (url, flags) not in known:
            known.add((url, flags))
            found.links.append(Link(url, int(flags), None, _cut(link["text"])))
    return found


def _cut(text: object) -> str:
    return " ".join(str(text).split())[:MAX_TEXT]
