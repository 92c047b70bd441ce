"""Asking again for the addresses of findings: what is fixed, what is still there, what has changed."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from indrel.ask.unknown import rests_on, rests_on_all
from indrel.base.errors import UsageError
from indrel.core.model import Cause, Finding, Severity
from indrel.decide.site import Site

_OLD = re.compile(r"c?[0-9]{1,3}", re.IGNORECASE)
"""A cause as reports numbered it before causes had ids."""

MOST_BESIDE = 200
"""Addresses beside one finding that are asked for again."""


@dataclass(frozen=True)
class Rechecked:
    """Findings by what became of them; `changed` are pairs of what was said and what is said now.

    `unknown` are findings of addresses that could not be read this time, each with the reason: neither fixed nor worse.
    """

    mended: Sequence[Finding]
    still: Sequence[Finding]
    changed: Sequence[tuple[Finding, Finding]]
    new: Sequence[Finding]
    unknown: Sequence[tuple[Finding, str]]
    answered: int = 0
    """Addresses asked for again that answered."""

    def as_json(self) -> dict[str, object]:
        return {
            "mended": [f.as_json() for f in self.mended], "still": [f.as_json() for f in self.still],
            "changed": [{"before": a.as_json(), "after": b.as_json()} for a, b in self.changed],
            "new": [f.as_json() for f in self.new],
            "unknown": [{**f.as_json(), "unknown_because": why} for f, why in self.unknown], "answered": self.answered,
        }  # fmt: skip

    def fails(self, severity: Severity) -> bool:
        """Whether anything as grave is still there or new."""
        now = [*self.still, *(after for _, after in self.changed), *self.new]
        return any(f.severity.value >= severity.value for f in now)


def causes_named(causes: Iterable[Cause], given: Sequence[str]) -> list[str]:
    """The ids of causes that were named by prefixes. Raises UsageError for one that names none, or several."""
    ids = {cause.id: cause.short for cause in causes}
    found = []
    for word in given:
        if _OLD.fullmatch(word):
            raise UsageError(
                f"{word} is a number from an older report: causes have ids now, such as {next(iter(ids.values()), 'c7f3a')}; "
                "`indrel report --all -o x.md` shows them, and --check ID chooses by check"
            )
        hits = [id for id in ids if id.startswith(word.lower())]
        if len(hits) != 1:
            several = f"it begins {len(hits)} ids: {', '.join(sorted(ids[h] for h in hits)[:5])}"
            raise UsageError(
                f"no cause {word} here: {several if hits else 'it may be fixed, or be of another snapshot'}"
            )
        found += hits
    return found


def chosen(
    findings: Iterable[Finding], checks: Sequence[str], causes: Sequence[str], urls: Sequence[str]
) -> list[Finding]:
    """The findings of some checks, causes or addresses; all that are not accepted where none are named."""
    return [
        f
        for f in findings
        if not f.accepted
        and (not checks or f.check in checks)
        and (not causes or f.cause in causes)
        and (not urls or f.address in urls or bool(set(urls) & set(f.also)))
    ]


def addresses(site: Site, findings: Iterable[Finding], urls: Iterable[str] = ()) -> set[str]:
    """The addresses of the site that findings depend on: subjects, those beside them, pages that are evidence."""
    named = set(urls)
    for finding in findings:
        named.update(rests_on(finding))
        named.update(finding.also[:MOST_BESIDE])
    return {
        url
        for (url,) in site.rows(
            """SELECT url FROM (SELECT origin || path AS url FROM address WHERE site UNION ALL SELECT url FROM probe)
            WHERE url IN (SELECT unnest(?::VARCHAR[]))""",
            [sorted(named)],
        )
    }


def unread(site: Site, urls: Iterable[str]) -> set[str]:
    """Of some addresses the ones that an audit did not read though nothing barred them: what is found there need not be new."""
    asked = (
        "SELECT origin || path AS url FROM fact WHERE NOT read AND barred = 0 AND url IN (SELECT unnest(?::VARCHAR[]))"
    )
    return {url for (url,) in site.rows(asked, [sorted(urls)])}


def held(
    before: Sequence[Finding],
    after: Iterable[Finding],
    asked: set[str],
    unseen: Mapping[str, str] | None = None,
    stood: Iterable[Finding] = (),
    why_unknown: Callable[[Finding], str | None] = lambda finding: None,
    unread_then: Collection[str] = (),
) -> Rechecked:
    """What became of all findings of the addresses that were asked for again; like is compared with like.

    `unseen` are addresses that could not be read this time, with the reason. `stood` are all findings of the earlier audit:
    what stood already is never new; findings of one rule are reported apart by its own line. `why_unknown` says why the later
    audit does not tell whether a finding holds, if it does not. What rests on an address that the earlier audit had not read,
    `unread_then`, is not new: nothing was known of it.
    """
    mended: list[Finding] = []
    still: list[Finding] = []
    changed: list[tuple[Finding, Finding]] = []
    unknown: list[tuple[Finding, str]] = []
    unseen = unseen or {}
    now: dict[tuple[str, str], list[Finding]] = {}
    for finding in after:
        now.setdefault((finding.check, finding.url), []).append(finding)
    left = []
    for finding in before:  # first what is the same to the letter, then what is alike
        same = now.get((finding.check, finding.url), [])
        exact = next((f for f in same if _said(f) == _said(finding)), None)
        if exact is not None:
            same.remove(exact)
            if why := rests_on_all(finding.check):
                unknown.append((finding, why))
            else:
                still.append(finding)
        else:
            left.append(finding)
    for finding in left:
        same = (
            []
            if finding.evidence and finding.evidence[0].line and _of_file(finding)
            else now.get((finding.check, finding.url), [])
        )
        if same:
            changed.append((finding, same.pop(0)))
        elif why := why_unknown(finding):
            unknown.append((finding, why))
        else:
            mended.append(finding)
    known = {(f.check, f.url, _said(f)) for f in stood}
    rest = [f for members in now.values() for f in members if f.address in asked or _of_file(f)]
    new = []
    for finding in (f for f in rest if (f.check, f.url, _said(f)) not in known):
        if any(url in unread_then for url in rests_on(finding)):
            unknown.append((finding, "not read in the earlier audit"))
        else:
            new.append(finding)
    return Rechecked(mended, still, changed, new, unknown, sum(1 for url in asked if url not in unseen))


def _of_file(finding: Finding) -> bool:
    """Whether a finding is of one line of a file that has many: another line's finding is another finding."""
    return bool(finding.evidence) and finding.evidence[0].kind == "robots" and finding.url.endswith("/robots.txt")


def _said(finding: Finding) -> tuple[object, ...]:
    return finding.crawlers, finding.evidence[0].text if finding.evidence else "", finding.severity
