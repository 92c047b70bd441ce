"""Robots directives of any origin: tags and headers to tokens, faults and effects."""

from __future__ import annotations

import difflib
import email.utils
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from indrel.base.plain import code

PLAIN = frozenset({
    "all", "index", "follow", "noindex", "nofollow", "none", "nosnippet", "notranslate", "noimageindex",
    "indexifembedded", "noarchive",
})  # fmt: skip
VALUED = frozenset({"max-snippet", "max-image-preview", "max-video-preview", "unavailable_after"})
OBSOLETE = frozenset({"noodp", "noydir", "nocache", "nositelinkssearchbox"})
DATED = "unavailable_after"

_IMAGE_SIZES = frozenset({"none", "standard", "large"})
_WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_SCOPE = re.compile(r"[a-z0-9_.-]+", re.IGNORECASE)
"""What a crawler's token is written with; a name of anything else is no crawler's."""


@dataclass(frozen=True, slots=True)
class Tokens:
    """What one tag or one scoped stretch of a header says.

    `known` are tokens in lower case, values after a colon; `faults` are pairs of the text as
    written and what is wrong with it; `expires` is the date after which it means noindex.
    """

    known: tuple[str, ...]
    faults: tuple[tuple[str, str], ...] = ()
    expires: datetime | None = None

    @property
    def noindex(self) -> bool:
        return "noindex" in self.known or "none" in self.known

    @property
    def nofollow(self) -> bool:
        return "nofollow" in self.known or "none" in self.known

    @property
    def says_anything(self) -> bool:
        return bool(self.known or self.faults)


def parse_date(text: str) -> datetime | None:
    """RFC 822, RFC 850 and ISO 8601 dates; times without a zone are taken as UTC."""
    text = text.strip()
    found: datetime | None = None
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        for form in ("%A, %d-%b-%y %H:%M:%S %Z", "%a, %d-%b-%y %H:%M:%S %Z"):
            try:
                found = datetime.strptime(text, form)
                break
            except ValueError:
                continue
        else:
            try:
                found = email.utils.parsedate_to_datetime(text)
            except (ValueError, TypeError, IndexError):
                return None
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


CHOICE = 0.6
"""How alike a word has to be to one of a few that may be chosen, to be told as probably meant; `shwo` is that to `show`."""


def nearest(word: str, words: Iterable[str] | None = None, least: float = 0.8) -> str | None:
    """The known token that a word was probably meant to be; `least` is how alike they are (0 to 1)."""
    pool = sorted(words if words is not None else PLAIN | VALUED)
    squeezed = {w.replace("-", "").replace("_", ""): w for w in pool}
    plain = word.lower().replace("-", "").replace("_", "").replace(" ", "")
    if plain in squeezed:
        return squeezed[plain]
    close = difflib.get_close_matches(word.lower(), pool, 1, least)
    return close[0] if close else None


def _value_fault(name: str, value: str) -> str | None:
    if name == "max-image-preview":
        return None if value in _IMAGE_SIZES else "takes none, standard or large"
    try:
        return None if int(value) >= -1 else "takes -1, 0 or a number of characters"
    except ValueError:
        return "takes a whole number"


def _date_pieces(pieces: list[str], at: int) -> tuple[str, int]:
    """A date's text from piece `at` on (dates hold commas), and how many pieces it takes."""
    first = pieces[at].partition(":")[2].strip()
    behind = pieces[at + 1].strip() if at + 1 < len(pieces) else ""
    if (first[:3].lower() in _WEEKDAYS or behind[:1].isdigit()) and behind and parse_date(first) is None:
        return f"{first}, {behind}", 2
    return first, 1


class _Collector:
    def __init__(self) -> None:
        self.known: list[str] = []
        self.faults: list[tuple[str, str]] = []
        self.expires: datetime | None = None

    def take(self, word: str, name: str, value: str) -> None:
        """Take one token as written; `name` is its part before a colon."""
        if name in VALUED and name != DATED:
            fault = _value_fault(name, value.lower())
            if fault:
                self.faults.append((word, f"{code(name)} {fault}"))
            else:
                self.known.append(f"{name}:{value.lower()}")
        elif not value and (name in PLAIN or name in OBSOLETE):
            self.known.append(name)
        else:
            self.faults.append((word, _explain_unknown(word)))

    def date(self, text: str) -> None:
        found = parse_date(text)
        if found is None:
            self.faults.append((f"{DATED}: {text}", "the date cannot be read"))
        else:
            self.known.append(f"{DATED}:{found.isoformat()}")
            self.expires = min(self.expires, found) if self.expires else found

    def done(self) -> Tokens:
        return Tokens(tuple(dict.fromkeys(self.known)), tuple(self.faults), self.expires)


def _scope_fault(name: str, rest: str) -> str | None:
    """Why a name before a colon is no crawler's."""
    if name.lower() in PLAIN | OBSOLETE:
        return f"takes no value; a crawler's name comes before it: `{rest or 'name'}: {name}`"
    if name.lower() == "robots" or not _SCOPE.fullmatch(name):
        return "names no crawler, so the rest applies to none"
    return None


def _run_together(word: str) -> str | None:
    """Known tokens between which the comma is missing, with it."""
    parts = word.replace(";", " ").replace("|", " ").lower().split()
    return ", ".join(parts) if len(parts) > 1 and set(parts) <= PLAIN | OBSOLETE else None


def _explain_unknown(word: str) -> str:
    if several := _run_together(word):
        return f"tokens are separated by commas: write {code(several)}"
    near = nearest(word.partition(":")[0].strip())
    return f"there is no such token, perhaps {code(near)} is meant" if near else "there is no such token"


def slips(content: str) -> dict[str, str]:
    """Words of a robots tag's `content` that are no tokens, and what each was probably meant to be."""
    found: dict[str, str] = {}
    for word, _ in parse_content(content).faults:
        name = word.partition(":")[0].strip()
        if several := _run_together(word):
            found[word] = several
        elif name.lower() not in PLAIN | OBSOLETE | VALUED and (near := nearest(name)):
            found[name] = near
    return found


def parse_content(content: str) -> Tokens:
    """The tokens of a robots meta tag's `content`: separated by commas, case-insensitive."""
    return parse_header(content, scopes=False)[0][1]


def parse_header(value: str, scopes: bool = True) -> list[tuple[str, Tokens]]:
    """An `X-Robots-Tag` value as pairs of scope and tokens; the scope is empty where it is for all.

    A token followed by `:` that is not a valued directive names a crawler and scopes what follows.
    """
    pieces = value.split(",")
    stretches: list[tuple[str, _Collector]] = [("", _Collector())]
    at = 0
    while at < len(pieces):
        word = pieces[at].strip()
        name, colon, rest = (part.strip() for part in word.partition(":"))
        while scopes and colon and name.lower() not in VALUED and name:
            stretches.append((name.lower(), _Collector()))
            if fault := _scope_fault(name, rest):
                stretches[-1][1].faults.append((f"{name}:", fault))
            word = rest
            name, colon, rest = (part.strip() for part in word.partition(":"))
        pieces[at] = word
        if name.lower() == DATED and colon:
            text, used = _date_pieces(pieces, at)
            stretches[-1][1].date(text)
            at += used
            continue
        if word:
            stretches[-1][1].take(word, name.lower(), rest)
        at += 1
    found = [(scope, collector.done()) for scope, collector in stretches]
    return [pair for pair in found if pair[1].says_anything] or [("", Tokens(()))]
