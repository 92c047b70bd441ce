"""Findings on their way to rows, and as they are read back.

A fault of a template is a finding on every page. Few findings are held as they are; of many only a mark stays in memory,
what has to be known to decide on them together, and what they say is written to tables of the database as it comes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any, overload

from indrel.checks.catalogue import Check, Hit
from indrel.checks.causes import Mark, mark_of
from indrel.core.address import normalise
from indrel.core.model import AS_WRITTEN, Accepted, CheckClass, Evidence, Finding, Severity
from indrel.decide.site import Site

MOST_HELD = 5_000
"""Findings that are held in memory whole; beyond, so many are written together."""

AT_ONCE = 2_000
"""Findings that are read back together."""

BLOCKS_HELD = 3

_COLUMNS = (
    "id, cause, check_id, cls, severity, url, crawlers, message, also, section, accepted, until, follows, consequence"
)


class Collected:
    """Takes what the checks find."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.marks: list[Mark] = []
        self._held: list[Finding] = []
        self._first = 0  # the number of the first one held
        self._written: str | None = None
        self._shared: dict[Any, Any] = {}  # one object for what many marks have

    def add(self, one: Check, hits: Iterable[Hit]) -> None:
        """What one check finds: all of it, or nothing where the check raises."""
        began = len(self.marks)
        try:
            for hit in hits:
                self._take(_finding(one, hit, self.site), hit)
        except BaseException:
            del self.marks[began:]  # rows of theirs, held or written, belong to no mark
            raise

    def _take(self, finding: Finding, hit: Hit) -> None:
        mark = mark_of(finding, self._first + len(self._held), hit)
        mark.place = self._shared.setdefault(mark.place, mark.place)
        self.marks.append(mark)
        self._held.append(finding)
        if len(self._held) >= MOST_HELD:
            self._write()

    def _write(self) -> None:
        if self._written is None:
            count = self.site.kept["judged"] = self.site.kept.get("judged", 0) + 1
            self._written = f"judged_{count}"
        for table, rows in as_rows(self._held, self._first).items():
            self.site.snapshot.append(f"{self._written}_{table}", table, rows)
        self._first += len(self._held)
        self._held.clear()

    def whole(self, mark: Mark) -> Finding:
        """All that was found there, as it was found."""
        if mark.number >= self._first:
            return self._held[mark.number - self._first]
        return read(self.site, f"{self._written}_finding", f"{self._written}_shown", "id = ?", [mark.number])[0]

    def in_order(self, marks: Sequence[Mark]) -> Sequence[Finding]:
        """The findings of these marks, in their order and as these have them."""
        if self._written is None:
            return tuple(
                replace(
                    self._held[m.number],
                    severity=m.severity,
                    crawlers=m.crawlers,
                    accepted=m.accepted,
                    cause=m.cause,
                    follows=m.follows,
                    consequence=m.consequence,
                )
                for m in marks
            )
        if self._held:
            self._write()
        finding, shown = self._settled(marks)
        return Rows(self.site, finding, shown, len(marks))

    def _settled(self, marks: Sequence[Mark]) -> tuple[str, str]:
        """Tables of the findings that are reported; the names. What was written as it came is dropped."""
        from indrel.base.arrow import pa

        con, raw = self.site.con, self._written
        told = pa.table({
            "id": pa.array(range(len(marks)), pa.int32()),
            "number": pa.array([m.number for m in marks], pa.int32()),
            "cause": pa.array([m.cause for m in marks], pa.string()),
            "severity": pa.array([m.severity.weight for m in marks], pa.uint8()),
            "crawlers": pa.array([m.crawlers for m in marks], pa.list_(pa.string())),
            "accepted": pa.array([m.accepted.because if m.accepted else None for m in marks], pa.string()),
            "until": pa.array([m.accepted.until if m.accepted else None for m in marks], pa.string()),
            "follows": pa.array([m.follows or None for m in marks], pa.string()),
            "consequence": pa.array([m.consequence for m in marks], pa.bool_()),
        })  # fmt: skip
        con.register("told", told)
        con.execute(
            f"""CREATE TEMP TABLE {raw} AS SELECT t.id, t.cause, f.check_id, f.cls, t.severity, f.url, t.crawlers, f.message, f.also,
            f.section, t.accepted, t.until, t.follows, t.consequence FROM told t JOIN {raw}_finding f ON f.id = t.number ORDER BY t.id"""
        )
        con.execute(
            f"""CREATE TEMP TABLE {raw}_told AS SELECT t.id AS finding, s.rank, s.kind, s.file, s.line, s.text
            FROM told t JOIN {raw}_shown s ON s.finding = t.number ORDER BY 1, 2"""
        )
        con.unregister("told")
        con.execute(f"DROP TABLE {raw}_finding; DROP TABLE {raw}_shown")
        return str(raw), f"{raw}_told"


class Rows(Sequence[Finding]):
    """Findings in tables, read some at a time; the caller holds the site open."""

    def __init__(
        self, site: Site, finding: str, shown: str, count: int, first: int = 0, blocks: dict[int, list[Finding]] | None = None
    ) -> None:  # fmt: skip
        self.site, self.finding, self.shown = site, finding, shown
        self._first, self._count = first, count
        self._blocks = {} if blocks is None else blocks

    def __len__(self) -> int:
        return self._count

    @overload
    def __getitem__(self, at: int) -> Finding: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Finding]: ...
    def __getitem__(self, at: int | slice) -> Finding | Sequence[Finding]:
        if isinstance(at, slice):
            chosen = range(self._count)[at]
            if chosen.step != 1:
                return tuple(self[n] for n in chosen)
            return Rows(self.site, self.finding, self.shown, len(chosen), self._first + chosen.start, self._blocks)
        number = self._first + range(self._count)[at]
        return self._block(number // AT_ONCE)[number % AT_ONCE]

    def __iter__(self) -> Iterator[Finding]:
        for number in range(self._first, self._first + self._count):
            yield self._block(number // AT_ONCE)[number % AT_ONCE]

    def chosen(self, places: Sequence[int]) -> list[Finding]:
        """The findings at some places, in one query."""
        found = read(
            self.site,
            self.finding,
            self.shown,
            "id IN (SELECT unnest(?::INTEGER[]))",
            [[self._first + p for p in places]],
        )
        return found

    def _block(self, number: int) -> list[Finding]:
        found = self._blocks.get(number)
        if found is None:
            while len(self._blocks) >= BLOCKS_HELD:
                del self._blocks[next(iter(self._blocks))]
            begin = number * AT_ONCE
            found = read(self.site, self.finding, self.shown, "id >= ? AND id < ?", [begin, begin + AT_ONCE])
            self._blocks[number] = found
        return found


def _finding(one: Check, hit: Hit, site: Site) -> Finding:
    severity = hit.severity or one.severity
    if one.rests_on_want and hit.implied:
        severity = severity.milder()
    written = one.id.startswith(AS_WRITTEN) or "://" not in hit.url
    place = normalise(hit.url) if written else hit.url
    return Finding(
        one.id, one.cls, severity, hit.url, hit.crawlers or site.names(hit.mask), hit.message, hit.evidence, hit.also,
        site.section(place) if place else "", advice=hit.advice if isinstance(hit.advice, str) else hit.advice.text,
    )  # fmt: skip


def as_rows(findings: Iterable[Finding], first: int = 0) -> dict[str, list[tuple[Any, ...]]]:
    """Findings and their evidence as rows of the tables of these names, numbered from `first`."""
    rows: list[tuple[Any, ...]] = []
    shown: list[tuple[Any, ...]] = []
    for n, f in enumerate(findings, first):
        rows.append(
            (
                n, f.cause, f.check, f.cls.value, f.severity.weight, f.url, f.crawlers, f.message, f.also, f.section,
                f.accepted.because if f.accepted else None, f.accepted.until if f.accepted else None, f.follows or None, f.consequence,
            )
        )  # fmt: skip
        shown += [(n, rank, e.kind, e.where, e.line, e.text) for rank, e in enumerate(f.evidence)]
    return {"finding": rows, "shown": shown}


def read(
    site: Site, finding: str, shown: str, condition: str = "true", parameters: Sequence[Any] | dict[str, Any] | None = None
) -> list[Finding]:  # fmt: skip
    """The findings of two tables that meet a condition, in their order."""
    rows = site.con.execute(
        f"SELECT {_COLUMNS} FROM {finding} WHERE {condition} ORDER BY id", parameters or {}
    ).fetchall()
    if not rows:
        return []
    evidence: dict[int, list[Evidence]] = {}
    first, last = rows[0][0], rows[-1][0]
    whole = last - first + 1 == len(rows)
    for number, kind, file, line, text in site.rows(
        f"""SELECT finding, kind, file, line, text FROM {shown} WHERE finding BETWEEN {first} AND {last}
        {"" if whole else "AND finding IN (SELECT unnest(?::INTEGER[]))"} ORDER BY finding, rank""",
        None if whole else [[row[0] for row in rows]],
    ):
        evidence.setdefault(number, []).append(Evidence(kind, file, line, text))
    return [
        Finding(
            check=check, cls=CheckClass(cls), severity=Severity(severity), url=url, crawlers=tuple(crawlers), message=message,
            evidence=tuple(evidence.get(number, ())), also=tuple(also), section=section, cause=cause,
            accepted=Accepted(accepted, until) if accepted is not None else None, follows=follows or "", consequence=consequence,
        )
        for number, cause, check, cls, severity, url, crawlers, message, also, section, accepted, until, follows, consequence in rows
    ]  # fmt: skip
