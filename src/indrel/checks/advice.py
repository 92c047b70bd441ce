"""What to do about a finding: chosen by how its URLs relate, by the state of the target and by what the owner wants.

The catalogue's text is right for most findings of a check. Where the facts decide between edits, a check asks here.
No edit is advised whose target is not open, that would open an unwanted page, or that would shut a wanted one.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from indrel.checks.changes import GOES, NAMED, NAMES_ITSELF, Change, Effect, canonical_tag, to
from indrel.core import relation as rel
from indrel.core.model import State
from indrel.decide.site import Site


class Advice(NamedTuple):
    """What to do, and the change of text that does it, if one text follows from the other.

    `key` tells the causes of one check apart whose edits differ; without one the text does. `proof` is what it does, if that
    was tried when it was chosen.
    """

    text: str
    change: Change | None = None
    key: str = ""
    proof: str = ""

    @property
    def name(self) -> str:
        return self.key or self.text


class Target(NamedTuple):
    """Where a page leads: `url` is next, `end` is last (the same, unless it leads on; empty in a loop).

    `state` and `end_state` are for the crawlers that may read the page, `elsewhere` off the site; `want` and `listed` are
    the end's; `own_want` and `own_state` are the page's, the latter as it would be without leading elsewhere.
    """

    url: str
    state: str
    end: str
    end_state: str
    listed: bool
    want: str
    own_want: str
    own_state: str

    @property
    def is_open(self) -> bool:
        return self.end_state == State.OPEN and self.want not in ("hide", "lock", "drop")

    @property
    def is_unwanted(self) -> bool:
        return self.own_want in ("hide", "lock", "drop")


def _state(of: str, mask: str) -> str:
    return f"""CASE WHEN NOT {of}.site THEN 'elsewhere' WHEN {of}.barred & {mask} > 0 THEN 'barred' WHEN {of}.tail <> '' THEN {of}.tail
        WHEN {of}.hidden & {mask} > 0 THEN 'hidden' ELSE 'open' END"""


def targets(site: Site, ids: Iterable[int]) -> dict[int, Target]:
    """Where the pages of these numbers lead, by canonical or redirect."""
    from indrel.checks.evidence import of_each

    able = f"({site.all_mask} & ~f.barred)"
    return {
        row[0]: Target(*row[1:])
        for row in of_each(
            site,
            ids,
            f"""SELECT f.id, t.origin || t.path, {_state("t", able)}, CASE WHEN f.folds_into IS NULL THEN '' ELSE e.origin || e.path END,
                CASE WHEN f.folds_into IS NULL THEN 'loop' ELSE {_state("e", able)} END, e.listed, e.want, f.want,
                CASE WHEN f.noindex & {able} > 0 THEN 'hidden' ELSE 'open' END
            FROM picked JOIN fact f ON f.id = picked.id JOIN fact t ON t.id = f.folds_to
            JOIN fact e ON e.id = coalesce(f.folds_into, f.folds_to)""",
        )
    }


# ---------------------------------------------------------------- canonicals

ITSELF = Advice("Let the canonical point to the page's own URL.", NAMES_ITSELF, "itself")
EACH_ITSELF = Advice(
    "In the template, print each page's own URL as its canonical.",
    Change(NAMED, lambda f, before: canonical_tag(f.url) + "  (each page its own URL)", Effect.OWN_CANONICAL),
    "each-itself",
)
END = Advice(
    "Let the canonical point to the last URL of the chain.", Change(NAMED, lambda f, before: _last_url(f.also)), "end"
)
UNWANTED_COPY = Advice(
    "You do not want this page in search: give it noindex and remove the canonical.", Change(NAMED, to(GOES)), "noindex"
)
TARGET_FIRST = Advice(
    "If the target is the right page, make it indexable: its own finding shows how. Otherwise let the canonical point to the "
    "page's own URL.",
    key="target",
)
_LANGUAGE = re.compile(r"^[a-z]{2}(-[a-z]{2})?$", re.IGNORECASE)


def _last_url(also: tuple[str, ...]) -> str | None:
    return canonical_tag(also[-1]) if also else None


def is_translation(found: rel.Relation) -> bool:
    """Whether two URLs differ in a language code alone: neither stands for the other."""
    return found.kind == rel.PART and all(_LANGUAGE.match(p.strip("-+/")) for p in found.parts[0].split(" > "))


def canonical_advice(url: str, target: Target | None) -> Advice | None:
    """What to do about a page whose canonical points to a URL that cannot represent it, or that leads on.

    None if the facts do not decide.
    """
    if target is None:
        return None
    if target.is_unwanted:
        return UNWANTED_COPY
    leads_on = target.end and target.end != target.url
    if leads_on and target.is_open and target.end != url and not is_translation(rel.relation(url, target.end)):
        return END
    if target.end_state in (State.HIDDEN, State.BARRED, State.BROKEN) and target.want == "show":
        return TARGET_FIRST
    return ITSELF if target.own_state == State.OPEN else None


# ---------------------------------------------------------------- sitemap entries

NO_ENTRY = Change(("sitemap",), to("(remove the entry)"), Effect.UNLISTED)
REMOVE = Advice("Remove the entry from the sitemap.", NO_ENTRY, "remove")
TARGET_LISTED = Advice(
    "Remove the entry: the sitemap already lists the URL that it leads to.",
    NO_ENTRY,
    "listed",
)
LIST_TARGET = Advice(
    "List the URL that it leads to instead.",
    Change(("sitemap",), lambda f, before: _entry_of(f.also, before)),
    "target",
)
REPAIR = Advice(
    "Repair the page: the sitemap is right to list it. Remove the entry only if the page should be gone.", key="repair"
)
CANONICAL_WRONG = Advice(
    "Let the page's canonical point to its own URL: the URL that it points to now cannot represent it. The entry can stay.",
    NAMES_ITSELF,
    "itself",
)


LOOKS_PRIVATE = Advice(
    "The URL looks private: remove the entry from the sitemap. If it is meant for everyone, state it in the intent file "
    '(want = "show"), and open it then.',
    NO_ENTRY,
    "private",
)
BELONGS_THERE = Advice(
    "If the content belongs to the other site, remove the entry. Otherwise let the page's canonical point to its own URL.",
    key="elsewhere",
)


def _entry_of(also: tuple[str, ...], before: str) -> str | None:
    if not also:
        return None
    return f"<loc>{also[-1]}</loc>" if before.startswith("<loc>") else also[-1]


def entry_advice(target: Target | None) -> Advice | None:
    """What to do about a sitemap entry that leads elsewhere, by redirect or canonical."""
    if target is None:
        return None
    if target.is_open:
        return TARGET_LISTED if target.listed else LIST_TARGET
    return REMOVE


def folded_entry_advice(target: Target | None) -> Advice | None:
    """The same of an entry whose page has a canonical that points elsewhere: if that cannot be indexed, the canonical is wrong."""
    if target is None:
        return None
    if target.end_state == "elsewhere":
        return BELONGS_THERE
    if target.is_open or target.is_unwanted or target.own_state != State.OPEN:
        return entry_advice(target)
    return CANONICAL_WRONG
