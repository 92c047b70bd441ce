"""Which known addresses change state under another robots.txt."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np

from indrel.base.arrow import arrays, pa
from indrel.core.crawlers import STAR, crawler
from indrel.core.robots.match import match_many
from indrel.core.robots.single import RESERVED
from indrel.decide.matrix import known_paths
from indrel.decide.site import UNKNOWN_HOST, Site


@dataclass(frozen=True, slots=True)
class Change:
    """One address whose state changes for some crawlers."""

    url: str
    section: str
    crawlers: tuple[str, ...]
    before: str
    after: str
    wanted: bool
    rule: str | None
    line: int | None

    def as_json(self) -> dict[str, object]:
        return {n: list(v) if isinstance(v := getattr(self, n), tuple) else v for n in self.__slots__}


@dataclass(frozen=True, slots=True)
class Named:
    """A crawler that has a group of its own in one of the files and is not audited: the share of the known URLs that it may fetch,
    and how many it could fetch no more, or only then."""

    crawler: str
    before: float
    after: float
    blocked: int
    unblocked: int

    def as_json(self) -> dict[str, object]:
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(frozen=True)
class Impact:
    """What a new robots.txt does: addresses that change, wanted ones first, and what each changed line does."""

    changes: list[Change]
    lines: list[dict[str, object]]
    known: int
    named: list[Named]
    notes: tuple[str, ...] = ()
    """Addresses of which the standard's letter would decide otherwise than engines do."""

    @property
    def bars_wanted(self) -> bool:
        return any(c.wanted and c.after == "barred" for c in self.changes)

    def as_json(self) -> dict[str, object]:
        return {
            "changes": [c.as_json() for c in self.changes], "lines": self.lines, "bars_wanted": self.bars_wanted,
            "named": [n.as_json() for n in self.named], "notes": list(self.notes),
        }  # fmt: skip


def impact(before: Site, after: Site) -> Impact:
    """Compare two readings of one snapshot that differ only in robots.txt."""
    known = "SELECT id, barred FROM fact WHERE known ORDER BY id"
    (ids, old), (_, new) = (arrays(s.con, known) for s in (before, after))
    ids = ids[old != new]
    changes: list[Change] = []
    for i, one in enumerate(before.crawlers):
        for url, wanted, was, becomes in _states(before, after, ids, i):
            _, rule, _ = (after if becomes == "barred" else before).rule_for(url, one)
            changes.append(Change(url, before.section(url), (one.token,), was, becomes, wanted, rule.text if rule else None,
                                  rule.line if rule else None))  # fmt: skip
    merged = _merge(changes)
    merged.sort(
        key=lambda c: (not (c.wanted and c.after == "barred"), not c.wanted, c.after != "barred", c.section, c.url)
    )
    turned = Counter((c.after == "barred", c.line) for c in merged)
    named = _named(before, after, turned)
    return Impact(merged, _changed_lines(before, after, turned), len(old), named, _notes(after))


def _named(before: Site, after: Site, turned: Counter[tuple[bool, int | None]]) -> list[Named]:
    """What changes for the crawlers that the files name, audited ones apart; `turned` counts what each line turns."""
    hosts = [site.robots.get(before.base_origin) for site in (before, after)]
    known = known_paths(before)
    if known is None or None in hosts:
        return []
    audited = {c.token for c in before.crawlers}
    agents = dict.fromkeys(a.lower() for h in hosts if h for g in h.file.groups for a in g.agents)
    found = []
    for agent in (a for a in agents if a and a not in audited and a != STAR):
        rules = [host.ruleset(crawler(agent)).rules for host in hosts if host]
        decided = [match_many(one, known.paths) for one in rules]
        then, now = (
            np.array([not r.allow for r in one] + [False])[each] for one, each in zip(rules, decided, strict=True)
        )
        for bars, changed, side in ((True, now & ~then, 1), (False, then & ~now, 0)):
            lines = Counter(decided[side][changed].tolist())
            for index, n in lines.items():
                if index >= 0:  # crawlers share lines, and a URL counts once
                    line = bars, rules[side][index].line
                    turned[line] = max(turned[line], n)
        if (then != now).any():
            share = [round(float(1 - barred.mean()), 4) for barred in (then, now)]
            found.append(Named(agent, share[0], share[1], int((now & ~then).sum()), int((then & ~now).sum())))
    return found


def _notes(site: Site) -> tuple[str, ...]:
    """Known addresses on which the two readings of the standard part, each with what the letter says."""
    host = site.robots.get(site.base_origin)
    if host is None:
        return ()
    escaped = any(RESERVED.search(r.path.upper()) for c in site.crawlers for r in host.ruleset(c).rules)
    condition = "true" if escaped else "contains(path, '%')"
    found: dict[str, None] = {}
    for (path,) in site.rows(
        f"SELECT path FROM fact WHERE known AND origin = ? AND {condition} ORDER BY path LIMIT 20000", [host.origin]
    ):
        for one in site.crawlers:
            note = host.verdict.by_letter(path, one)
            if note:
                found[f"{host.origin}{path}: {note}"] = None
    return tuple(found)[:50]


def _states(before: Site, after: Site, ids: object, index: int) -> list[tuple[str, bool, str, str]]:
    """Address, whether wanted, state before and after, for those of `ids` that change for one crawler."""
    found = []
    for site in (before, after):
        site.con.register("changed", pa.table({"id": pa.array(ids, pa.int32())}))
        found.append(
            site.rows(
                f"SELECT f.origin || f.path, f.want = 'show', {site.state_sql(index)} FROM fact f "
                "JOIN changed ON changed.id = f.id ORDER BY f.id"
            )
        )
        site.con.unregister("changed")
    return [(u, bool(w), a, b) for (u, w, a), (_, _, b) in zip(*found, strict=True) if a != b]


def _merge(changes: list[Change]) -> list[Change]:
    """Changes of one address that several crawlers share, as one."""
    groups: dict[tuple[object, ...], list[Change]] = {}
    for one in changes:
        groups.setdefault((one.url, one.before, one.after, one.line), []).append(one)
    return [
        Change(
            m[0].url,
            m[0].section,
            tuple(c.crawlers[0] for c in m),
            m[0].before,
            m[0].after,
            m[0].wanted,
            m[0].rule,
            m[0].line,
        )
        for m in groups.values()
    ]


def _changed_lines(before: Site, after: Site, turned: Counter[tuple[bool, int | None]]) -> list[dict[str, object]]:
    """Rules that only one of the files has, with the number of addresses that each of them turns."""
    origin = before.base_origin
    files = [(s.robots[origin].file if origin in s.robots else UNKNOWN_HOST.file) for s in (before, after)]
    labels = [Counter((a, r.label) for g in f.groups for a in g.agents for r in g.rules) for f in files]
    rows: list[dict[str, object]] = []
    for kind, file, other, bars in (("added", files[1], labels[0], True), ("removed", files[0], labels[1], False)):
        for group in file.groups:
            for rule in group.rules:
                if any((a, rule.label) not in other for a in group.agents):
                    rows.append({"change": kind, "line": rule.line, "text": rule.text, "group": ", ".join(group.agents),
                                 "turns": turned[bars, rule.line]})  # fmt: skip
    return rows
