"""Findings of two audits, paired: the same question for `compare`, the gate and `recheck`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from indrel.ask.unknown import Unasked, Unreadable
from indrel.core.mapping import AddressMap
from indrel.core.model import Finding
from indrel.decide.site import Site


class Pairs(NamedTuple):
    """Positions in the two lists: `both` are pairs of them, `gone` and `new` are in one list only."""

    both: list[tuple[int, int]]
    gone: list[int]
    new: list[int]


def paired(
    old: Sequence[Finding], new: Sequence[Finding], places: AddressMap | None = None, accepted: bool = True
) -> Pairs:
    """Pair findings by check and subject, and by line for those of robots.txt; leave out accepted ones if so asked.

    Of several that are alike, findings that say the same are paired first. Each list is read once, and only positions are held.
    """

    def at(findings: Sequence[Finding], mapped: AddressMap) -> dict[tuple[str, str, str], list[int]]:
        found: dict[tuple[str, str, str], list[int]] = {}
        for place, finding in enumerate(findings):
            if accepted or not finding.accepted:
                url = mapped.url(finding.url)
                found.setdefault((finding.check, url, _line_of_file(finding, url)), []).append(place)
        return found

    then, now = at(old, places or AddressMap()), at(new, AddressMap())
    both: list[tuple[int, int]] = []
    gone: list[int] = []
    fresh: list[int] = []
    for key, mine in then.items():
        theirs = now.pop(key, [])
        if len(mine) > 1 or len(theirs) > 1:
            mine, theirs = _alike_first(old, mine, new, theirs)
        both += zip(mine, theirs, strict=False)
        gone += mine[len(theirs) :]
        fresh += theirs[len(mine) :]
    return Pairs(both, sorted(gone), sorted([*fresh, *(place for rest in now.values() for place in rest)]))


def _line_of_file(finding: Finding, url: str) -> str:
    """The line of a file that has many: another line's finding is another finding."""
    return finding.evidence[0].text if url.endswith("/robots.txt") and finding.evidence else ""


def _alike_first(
    old: Sequence[Finding], mine: list[int], new: Sequence[Finding], theirs: list[int]
) -> tuple[list[int], list[int]]:
    """The positions in an order in which findings that say the same stand at the same place."""
    left: dict[tuple[object, ...], list[int]] = {}
    for place in theirs:
        left.setdefault(said(new[place]), []).append(place)
    matched = [(place, left[key].pop(0)) for place in mine if left.get(key := said(old[place]))]
    ours, others = {a for a, _ in matched}, {b for _, b in matched}
    return (
        [*(a for a, _ in matched), *(p for p in mine if p not in ours)],
        [*(b for _, b in matched), *(p for p in theirs if p not in others)],
    )


def said(finding: Finding) -> tuple[object, ...]:
    """What a finding says, for whom, and how severe it is."""
    return finding.crawlers, finding.evidence[0].text if finding.evidence else "", finding.severity


def apart(
    old: Sequence[Finding], new: Sequence[Finding], places: AddressMap | None = None, accepted: bool = True
) -> tuple[list[Finding], list[Finding]]:
    """The findings that only the later audit has, and the ones that only the earlier one has."""
    pairs = paired(old, new, places, accepted)
    return [new[place] for place in pairs.new], [old[place] for place in pairs.gone]


def why_unknown(
    site: Site, findings: Sequence[Finding], there: Callable[[str], str]
) -> Callable[[Finding], str | None]:
    """Why an audit does not tell whether a finding of another one holds; `there` gives the URL that stands for one in `site`."""
    unread, unasked = Unreadable(site).of(findings, there), Unasked(site)
    return lambda finding: unread(finding) or unasked.why(finding.check, there(finding.url))


def known_of(
    site: Site, findings: Sequence[Finding], there: Callable[[str], str]
) -> tuple[list[Finding], dict[tuple[str, str], list[str]]]:
    """Findings of one audit of whose addresses the other, `site`, knows something, and of the rest address, reason, checks."""
    why = why_unknown(site, findings, there)
    known: list[Finding] = []
    unknown: dict[tuple[str, str], list[str]] = {}
    for finding in findings:
        if reason := why(finding):
            unknown.setdefault((finding.url, reason), []).append(finding.check)
        else:
            known.append(finding)
    return known, unknown
