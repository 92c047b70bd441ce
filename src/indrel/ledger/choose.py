"""What a snapshot says about the book: which addresses to ask for, how harmful a wait is, which removals last."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from indrel.base.sqltext import quoted_list
from indrel.core.model import Finding, State, Want
from indrel.ledger.book import Asked, Removal

if TYPE_CHECKING:
    from indrel.ask.sides import StateChange
    from indrel.decide.site import Site

LASTING = (State.HIDDEN, State.LOCKED, State.GONE, State.FOLDED)
"""States that keep an address out of a list by themselves. `barred` does not: what is barred may be listed unread."""

NO_USE = (State.BARRED, State.UNREAD, State.BROKEN)
"""States in which a crawl would learn nothing."""

_EXPOSED, _BLOCKED, _BARE, _OTHER = 400, 300, 200, 100


def from_changes(changes: Iterable[StateChange]) -> list[Asked]:
    """Addresses whose state changed for the better or indifferently, the most harmful first.

    What is still listed and must not be comes first, then what is wanted and may be listed at last.
    Wanted addresses that got worse are left out, and unwanted ones that became open: nobody should ask for those.
    """
    found: dict[str, Asked] = {}
    for change in changes:
        unwanted = change.want in (Want.HIDE, Want.LOCK, Want.DROP)
        if change.is_worse or change.after in NO_USE or (unwanted and change.after == State.OPEN):
            continue
        harm, why = _OTHER, f"{change.before} before, {change.after} now"
        if change.before == State.OPEN and unwanted:
            harm, why = _EXPOSED, f"can still be indexed: open before, {change.after} now"
        elif change.before == State.BARRED and change.after in LASTING:
            harm, why = _BARE, f"can be indexed without content: blocked before, {change.after} now"
        elif change.after == State.OPEN and change.want == Want.SHOW:
            harm, why = _BLOCKED, f"can be indexed now: {change.before} before"
        if change.url not in found or harm > found[change.url].harm:
            found[change.url] = Asked(change.url, why, harm)
    return sorted(found.values(), key=lambda a: (-a.harm, a.url))


def from_findings(findings: Iterable[Finding]) -> list[Asked]:
    """The subjects of findings, once each, by the worst that is reported of them."""
    found: dict[str, Asked] = {}
    for finding in findings:
        harm = finding.severity.value
        if "://" in finding.url and (finding.url not in found or harm > found[finding.url].harm):
            found[finding.url] = Asked(finding.url, f"has {finding.check}", harm)
    return sorted(found.values(), key=lambda a: (-a.harm, a.url))


def by_harm(site: Site, asked: Iterable[Asked]) -> list[Asked]:
    """The most harmful first; of the same harm the one that most pages link to."""
    whole = list(asked)
    links = dict(
        site.rows(
            "SELECT origin || path AS url, followed + unfollowed FROM fact WHERE url IN (SELECT unnest(?::VARCHAR[]))",
            [[a.url for a in whole]],
        )
    )
    return sorted(whole, key=lambda a: (-a.harm, -links.get(a.url, 0), a.url))


def useless(site: Site, urls: Iterable[str]) -> dict[str, str]:
    """Addresses that a crawl would teach nothing, with the state that says so (for every crawler)."""
    states = site.states_sql
    rows = site.rows(
        f"SELECT origin || path AS url, [{states}] FROM fact WHERE url IN (SELECT unnest(?::VARCHAR[]))", [list(urls)]
    )
    return {url: str(found[0]) for url, found in rows if all(s in (State.BARRED, State.BROKEN) for s in found)}


@dataclass(frozen=True, slots=True)
class Standing:
    """A removal on a day, with what is in place of it. `known` 0: the snapshot has no such address."""

    removal: Removal
    days_left: int
    known: int | None = None
    lasting: int = 0
    example: str = ""

    @property
    def nothing_lasting(self) -> bool:
        """Whether it is known that something would come back once the removal expires."""
        return bool(self.known) and self.lasting < (self.known or 0)

    def as_json(self) -> dict[str, object]:
        return {
            "address": self.removal.address, "asked": self.removal.asked, "lapses": self.removal.lapses, "why": self.removal.why,
            "days_left": self.days_left, "known": self.known, "lasting": self.lasting, "example": self.example or None,
        }  # fmt: skip


def standings(removals: Iterable[Removal], today: date, site: Site | None) -> list[Standing]:
    """Each removal with its days left and, where there is a snapshot, with what will hold after it."""
    found = []
    for removal in removals:
        left = removal.days_left(today)
        if site is None:
            found.append(Standing(removal, left))
            continue
        prefix = removal.address.endswith("*")
        test = "starts_with(origin || path, ?)" if prefix else "origin || path = ?"
        states = site.states_sql
        stays = quoted_list(s.value for s in LASTING)
        known, lasting, example = site.rows(
            f"""SELECT count(*), count(*) FILTER (lasts), min(url || ' is ' || told) FILTER (NOT lasts) FROM (
                SELECT origin || path AS url, list_filter([{states}], lambda s: s NOT IN ({stays}))[1] AS told, told IS NULL AS lasts
                FROM fact WHERE known AND {test})""",
            [removal.address.removesuffix("*")],
        )[0]
        found.append(Standing(removal, left, int(known), int(lasting), example or ""))
    return found
