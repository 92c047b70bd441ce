"""All snapshots of a site in a folder: states and causes over time, when each came and went; which may be forgotten."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

from indrel.ask.pairing import why_unknown
from indrel.base.errors import SnapshotError
from indrel.checks import verdict_of
from indrel.checks.headline import name_of
from indrel.core.address import split
from indrel.core.mapping import folder_of
from indrel.core.model import Cause, Headline, Severity
from indrel.decide.site import Site
from indrel.snapshot.selection import Glance, in_order

SAMPLE = 20
"""Findings of a cause by which a later audit is asked whether it can know of them."""


@dataclass(frozen=True)
class Run:
    """One audit: its file, moment (ISO 8601), headline, states per crawler, and findings by severity."""

    path: Path
    site: str
    started: str
    complete: bool
    headline: Headline
    states: dict[str, dict[str, int]]
    findings: dict[str, int]
    causes: dict[str, Cause]
    unknown: frozenset[str] = frozenset()
    """Causes of the audit before that this one does not show, and of which it cannot know."""

    @property
    def says(self) -> tuple[object, ...]:
        """What is shown of it over time."""
        told = self.headline
        causes = {id: cause.count for id, cause in self.causes.items()}
        return self.complete, told.wanted, told.lost, told.exposed, self.states, self.findings, causes

    def as_json(self) -> dict[str, object]:
        return {
            "snapshot": str(self.path), "started": self.started, "complete": self.complete, "verdict": self.headline.as_json(),
            "states": self.states, "findings": self.findings,
        }  # fmt: skip


@dataclass(frozen=True)
class Span:
    """One cause over time: the first audit that had it, the last, and the first complete one after it that had it no more."""

    id: str
    check: str
    severity: str
    section: str
    count: int
    summary: str
    first: str
    last: str
    gone: str | None

    def as_json(self) -> dict[str, object]:
        return dict(vars(self))


@dataclass(frozen=True)
class History:
    """The audits of one site, the oldest first, and its causes: the ones that stand first, then the ones that went."""

    site: str
    runs: list[Run]
    causes: list[Span]
    unreadable: list[tuple[Path, str]]

    @property
    def steps(self) -> list[tuple[Run, Run, int]]:
        """Audits that say the same and follow each other: the first and the last of them, and how many there are."""
        found: list[tuple[Run, Run, int]] = []
        for run in self.runs:
            if found and found[-1][1].says == run.says:
                first, _, count = found[-1]
                found[-1] = (first, run, count + 1)
            else:
                found.append((run, run, 1))
        return found

    def as_json(self) -> dict[str, object]:
        return {
            "site": self.site, "runs": [r.as_json() for r in self.runs], "causes": [c.as_json() for c in self.causes],
            "unreadable": [{"snapshot": str(p), "because": why} for p, why in self.unreadable],
        }  # fmt: skip


def place_of(site: Site) -> str:
    """What snapshots of one site have in common: the host and folder at which it is published, wherever its files were read. A live
    site and a build of it are not one: an audit of one does not follow on the other's."""
    return ("live " if site.is_live else "") + folder_of(site.base).partition("://")[2]


def audits(
    files: Iterable[Path], host: str | None, open_site: Callable[[Path], Site], since: str = "", until: str = "~",
    place: str | None = None,
) -> tuple[list[Run], list[tuple[Path, str]]]:  # fmt: skip
    """What each snapshot says that is of one site (of a host, at a place as `place_of` gives it, or that of the newest), however the
    files are named, and which cannot be read. `since` and `until` are the moments between which an audit must have begun."""
    unreadable = []
    given = list(files)
    known = [one for one in in_order(given) if since <= one.started <= until]  # the newest first
    paths = {one.path for one in known}
    if host is None and place is None:
        place = _place_of_newest(known, open_site)
    runs: list[Run] = []
    standing: dict[str, Cause] = {}
    for path in (*(one.path for one in reversed(known)), *(path for path in given if path not in paths)):
        try:
            with closing(open_site(path)) as site:
                if (split(site.base).host == host) if host else (place_of(site) == place):
                    runs.append(run_of(site, path, standing.values()))
                    run = runs[-1]
                    standing = {id: one for id, one in standing.items() if id in run.unknown} | run.causes
        except SnapshotError as error:
            unreadable.append((path, str(error)))
    return [
        replace(run, causes={id: replace(one, findings=()) for id, one in run.causes.items()}) for run in runs
    ], unreadable


def _place_of_newest(known: Iterable[Glance], open_site: Callable[[Path], Site]) -> str | None:
    for one in known:
        with suppress(SnapshotError), closing(open_site(one.path)) as site:
            return place_of(site)
    return None


def run_of(site: Site, path: Path, standing: Iterable[Cause] = ()) -> Run:
    """What one audit says, as the history keeps it; `standing` are the causes of the audit before."""
    verdict = verdict_of(site)
    causes = {one.id: replace(one, findings=one.findings[:SAMPLE]) for one in verdict.causes if not one.accepted}
    unknown = {one.id for one in standing if one.id not in causes and _is_unknown(site, one)}
    return Run(
        path, name_of(site), str(site.meta.get("started") or ""), verdict.complete, verdict.headline, verdict.states,
        {s.word: verdict.count(s) for s in Severity}, causes, frozenset(unknown),
    )  # fmt: skip


def _is_unknown(site: Site, cause: Cause) -> bool:
    """Whether an audit cannot know of any of a cause's findings whether it holds."""
    why = why_unknown(site, cause.findings, str)
    return bool(cause.findings) and all(why(one) for one in cause.findings)


def history(runs: Iterable[Run], unreadable: Sequence[tuple[Path, str]] = ()) -> History:
    """Put audits of one site in order. Raises SnapshotError where there is none."""
    ordered = sorted(runs, key=lambda r: (r.started, r.path.name))
    if not ordered:
        raise SnapshotError("no snapshot of it can be read here: run `indrel audit URL` first, or name --in FOLDER")
    seen: dict[str, list[Run]] = {}
    for run in ordered:
        for key in run.causes:
            seen.setdefault(key, []).append(run)
    spans = []
    for key, there in seen.items():
        last = there[-1]
        later = (r for r in ordered if (r.started, r.path.name) > (last.started, last.path.name))
        after = [r for r in later if r.complete and key not in r.unknown]
        cause = last.causes[key]
        spans.append(
            Span(cause.id, cause.check, cause.severity.word, cause.section, cause.count, cause.summary, there[0].started, last.started,
                 after[0].started if after else None)
        )  # fmt: skip
    rank = {s.word: -s.value for s in Severity}
    spans.sort(key=lambda s: (s.gone is not None, rank[s.severity], s.first, s.check, s.section))
    return History(ordered[-1].site, ordered, spans, list(unreadable))


def forgettable(
    snapshots: Iterable[Glance], keep: int | None, older_than: timedelta | None, now: datetime
) -> list[tuple[Path, int]]:
    """The snapshots of one site beyond the newest `keep`, or whose audit began longer ago than a span, each with its bytes.

    The newest is never among them, nor is the newest that read a page: queries use that one.
    """
    ordered = sorted(snapshots, key=lambda one: (one.started, one.path.name), reverse=True)
    used = next((one for one in ordered if one.read_pages), None)
    found = []
    for place, one in enumerate(ordered):
        old = older_than is not None and datetime.fromisoformat(one.started) < now - older_than
        if place and one is not used and ((keep is not None and place >= keep) or old):
            found.append((one.path, one.path.stat().st_size))
    return found
