"""What a page's own text and structured data tell: whether it says that there is nothing, what it says that it is.

The own text is the visible text without navigation, header, footer and asides.
"""

from __future__ import annotations

import json
import re
from typing import Any, NamedTuple

from indrel.core.page.facts import LITTLE, Mark

_WORD = re.compile(r"\w+")
_ERROR = re.compile(
    r"\b(error )?(404|410)\b|\bnot (be )?found\b|\b(cannot|can.?t|could ?n.?t|could not) (be )?(find|found|locate[d]?)\b"
    r"|\b(does ?n.?t|does not|no longer) exists?\b|\bno longer (available|here|online)\b|\bnothing (was |to be )?found\b"
    r"|\bnothing here\b|\bpage (is )?missing\b|\bsomething went wrong\b|\ban error (has )?occurred\b|\binternal server error\b"
    r"|\bservice unavailable\b|\bnicht gefunden\b|\bexistiert nicht\b|\bintrouvable\b|\bn.existe (pas|plus)\b"
    r"|\bno (se )?(ha )?encontrad\w*\b|\bno existe\b|\bnon (è stata )?trovat\w*\b|\bn[ãa]o encontrad\w*\b|\bniet gevonden\b",
    re.IGNORECASE,
)
_NUMBER = re.compile(r"\b(?<!error )(404|410)\b", re.IGNORECASE)
_COUNTED = re.compile(
    r"(?:\b(?:page|seite|página|pagina|side|number|no|nr|issue|part|chapter)\.?|#) ?(404|410)\b", re.IGNORECASE
)
"""A number that counts pages or parts: `Page 404` of a list is no error, `Error page 404` is one."""
_FAILS = re.compile(r"error|fehler|erreur|oops", re.IGNORECASE)
_FILLER = frozenset({
    "the", "this", "that", "a", "an", "we", "you", "it", "is", "was", "are", "page", "pages", "site", "content",
    "file", "url", "address", "link", "sorry", "oops", "whoops", "error", "http", "of", "on", "our", "here", "what",
    "were", "looking", "for", "requested", "has", "been", "have", "anything", "die", "der", "das", "seite", "fehler",
    "leider", "la", "le", "cette", "página", "pagina", "esta", "lo", "sentimos", "désolé", "erreur", "404",
    "410", "server", "web", "resource", "document",
})  # fmt: skip
_EMPTY = re.compile(
    r"\bno (posts?|entries|articles?|items?|results?|products?|events?|news|pages?|matches|records)"
    r"( (were|was|are|is|have been))?( (yet|found|here|available|published|matched|to (show|display|see|list)))+"
    r"|\bno (posts|entries|articles|items|results|products|events|pages)( yet)?\s*[.!]"
    r"|\bnothing (found|(to (see|show|display) )?here( yet)?|was found|matched|to (show|display))\b"
    r"|\bthere (are|is) (currently |as yet |still )?(no|nothing)\b|\bno \w+ (in|with|under) this (category|tag|section|archive)\b"
    r"|\bkeine (beiträge|einträge|artikel|ergebnisse|produkte)\b|\baucun(e)? (article|résultat|produit|entrée)",
    re.IGNORECASE,
)
W3C_DATE = re.compile(
    r"(\d{4})(?:-(0[1-9]|1[0-2])(?:-(0[1-9]|[12]\d|3[01])"
    r"(?:T([01]\d|2[0-3]):([0-5]\d)(?::([0-5]\d|60)(?:\.\d+)?)?(Z|[+-](?:[01]\d|2[0-3]):[0-5]\d))?)?)?"
)
"""W3C Datetime: a date, or date and time with a zone."""

_LONG_DATA = 200_000
_DEPTH = 6


def says_error(heading: str, words: int) -> bool:
    """Whether a title or heading says that there is nothing, and little else is there."""
    if not _FAILS.search(heading):
        heading = _COUNTED.sub(" ", heading)
    if words > LITTLE or not heading or not _ERROR.search(heading):
        return False
    rest = _WORD.findall(_ERROR.sub(" ", heading.lower()))
    others = sum(1 for word in rest if word not in _FILLER and len(word) > 1)
    return others <= (1 if _ERROR.search(_NUMBER.sub(" ", heading)) else 0)  # a number alone may be a room's


def wording_marks(text: str, headings: list[str], words: int) -> int:
    """The marks that title, heading and own text give."""
    marks = 0
    if any(says_error(h, words) for h in headings):
        marks |= Mark.SAYS_ERROR
    if words <= LITTLE and _EMPTY.search(text):
        marks |= Mark.SAYS_EMPTY
    return marks


class StructuredData(NamedTuple):
    """The types in lower case between blocks (`products` where there are several), and the newest date of change."""

    types: str | None
    modified: str | None


def structured_data(scripts: list[str], og_type: str | None) -> StructuredData:
    """What `application/ld+json` and Open Graph say that a page is, and when it changed (`dateModified`)."""
    found: list[str] = [f"og:{og_type.strip().lower()}"[:60]] if og_type else []
    dates: list[str] = []
    for script in scripts:
        if len(script) <= _LONG_DATA and "@type" in script:
            try:
                _walk(json.loads(script), found, dates, 0)
            except (ValueError, RecursionError):
                continue
    if found.count("product") > 1:
        found.append("products")
    types = "|" + "|".join(sorted(set(found))) + "|" if found else None
    return StructuredData(types, max(dates, default=None))


def _walk(node: Any, found: list[str], dates: list[str], depth: int) -> None:
    if depth > _DEPTH or len(found) > 100:
        return
    if isinstance(node, list):
        for one in node[:50]:
            _walk(one, found, dates, depth + 1)
    elif isinstance(node, dict):
        kinds = node.get("@type")
        found += [str(k).rpartition("/")[2].lower()[:60] for k in (kinds if isinstance(kinds, list) else [kinds]) if k]
        changed = node.get("dateModified")
        if isinstance(changed, str) and W3C_DATE.fullmatch(changed.strip()):
            dates.append(changed.strip())
        for key in ("@graph", "mainEntity"):
            if key in node:
                _walk(node[key], found, dates, depth + 1)
