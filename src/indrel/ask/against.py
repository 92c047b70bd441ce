"""A copy of a site (a staging host, the next build) compared with the live one: is it closed, and where do its directives differ."""

from __future__ import annotations

from dataclasses import dataclass, field

from indrel.ask.compare import said_sql
from indrel.checks.evidence import said
from indrel.checks.headline import spoken_of
from indrel.core.model import Evidence
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

HOSTLESS = "''"
"""In SQL, in place of a canonical's origin: only its path is compared."""

FEW = 20
"""Addresses of each kind that are kept as examples."""


@dataclass(frozen=True)
class Difference:
    """What pages say otherwise on the copy: `what` is robots or canonical (its path, for the host differs anyway)."""

    what: str
    live: str
    copy: str
    count: int
    urls: tuple[str, ...]

    def as_json(self) -> dict[str, object]:
        return {"what": self.what, "live": self.live, "copy": self.copy, "count": self.count, "urls": list(self.urls)}


@dataclass(frozen=True)
class Against:
    """The answer. `open` are pages of the copy that may be fetched and listed by an audited crawler; `closed_by` is what
    decides its start page; `unread` pages could not be compared."""

    copy: str
    live: str
    open_count: int
    open: tuple[str, ...]
    closed_by: tuple[Evidence, ...]
    common: int
    differing: int
    unread: int
    only_live: int
    only_copy: int
    examples: tuple[str, ...]
    differences: tuple[Difference, ...] = field(default=())

    @property
    def is_closed(self) -> bool:
        return self.open_count == 0

    @property
    def sentence(self) -> str:
        if self.is_closed:
            what = "the copy is closed: no page of it can be fetched and indexed"
        else:
            what = f"the copy is open: {self.open_count:,} of its pages can be fetched and indexed"
        differing = sum(d.count for d in self.differences)
        return f"{self.copy}, compared with {self.live}: {what}; directives differ on {differing:,} of {self.common:,} common pages"

    def as_json(self) -> dict[str, object]:
        return {
            "sentence": self.sentence, "closed": self.is_closed, "open_count": self.open_count, "open": list(self.open),
            "closed_by": [e.as_json() for e in self.closed_by], "common": self.common, "differing": self.differing, "unread": self.unread,
            "only_live": self.only_live, "only_copy": self.only_copy, "examples": list(self.examples),
            "differences": [d.as_json() for d in self.differences],
        }  # fmt: skip


def against(copy: Site, live: Site) -> Against:
    """Hold a copy against the live site: pages of their start hosts, matched by path and query."""
    shown = [url for (url,) in copy.rows(_OPEN.format(mask=copy.all_mask), [copy.base_origin])]
    here, there = _said(copy), _said(live)
    common = sorted(here.keys() & there.keys())
    groups: dict[tuple[str, str, str], list[str]] = {}
    for path in common:
        for what, mine, theirs in zip(("robots", "canonical"), here[path], there[path], strict=True):
            if mine != theirs:
                groups.setdefault((what, theirs, mine), []).append(copy.base_origin + path)
    differences = [
        Difference(what, theirs, mine, len(urls), tuple(urls[:FEW]))
        for (what, theirs, mine), urls in sorted(groups.items(), key=lambda pair: (-len(pair[1]), pair[0]))
    ]
    known = [{p for (p,) in site.rows(_PAGES, [site.base_origin])} for site in (copy, live)]
    missing, added = known[1] - known[0], known[0] - known[1]
    return Against(
        spoken_of(copy), spoken_of(live), len(shown), tuple(shown[:FEW]), _closed_by(copy),
        len(common), sum(here[p] != there[p] for p in common), len((known[0] & known[1]) - set(common)), len(missing), len(added),
        tuple(live.base_origin + p for p in sorted(missing)[:FEW]), tuple(differences),
    )  # fmt: skip


_PAGE = "known AND origin = ? AND (html OR NOT read)"
_PAGES = f"SELECT path FROM fact WHERE {_PAGE}"
_OPEN = f"""SELECT origin || path FROM fact WHERE {_PAGE} AND read AND status < 300 AND {{mask}} & ~barred & ~noindex > 0 ORDER BY path"""
"""A canonical that leads to the live site is a hint, and closes nothing."""


def _closed_by(copy: Site) -> tuple[Evidence, ...]:
    """What keeps the start page from being listed: the rule, status or directive."""
    start = copy.front_id
    if start is None:
        return ()
    found = [e for e in decides(reasons(copy, [start]).get(start, ()), len(copy.crawlers) - 1) if e.kind != "canonical"]
    return tuple(found or said(copy, [start], copy.all_mask).get(start, ()))


def _said(site: Site) -> dict[str, tuple[str, str]]:
    """By path what a page says of robots and, without its host, of the canonical; one that names itself says `itself`."""
    rows = site.rows(f"SELECT path, robots, canonical FROM ({said_sql(HOSTLESS)}) WHERE origin = ?", [site.base_origin])
    return {path: (robots, "itself" if canonical in (path, "none") else canonical) for path, robots, canonical in rows}
