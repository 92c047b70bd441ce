"""A copy of a site (a staging host, the next build) compared with the live one: is it closed, and where does it differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from indrel.ask.compare import changed_rules
from indrel.ask.sides import Sides, said_sql
from indrel.ask.unknown import Unreadable
from indrel.checks.evidence import WHERE, answers, canonicals, of_each, said
from indrel.checks.headline import spoken_of
from indrel.core.answers import status_text
from indrel.core.mapping import AddressMap
from indrel.core.model import Evidence, plural, verb
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

FEW = 20
"""Addresses of each kind that are kept as examples."""

SAMPLE = 6
"""Pages of a copy that was read with a login and are requested once without it."""

LOGIN = (401, 403)
ITSELF, THE_LIVE_PAGE, THE_COPY = "itself", "the live page", "the copy's page"


@dataclass(frozen=True)
class Difference:
    """Pages that differ in the same way: `what` is status, redirect, robots or canonical. `lines` are where it stands on the first
    of them, on the live site and on the copy."""

    what: str
    live: str
    copy: str
    count: int
    urls: tuple[str, ...]
    lines: tuple[Evidence | None, Evidence | None] = (None, None)

    def as_json(self) -> dict[str, object]:
        return {
            "what": self.what, "live": self.live, "copy": self.copy, "count": self.count, "urls": list(self.urls),
            "evidence": {side: e.as_json() if e else None for side, e in zip(("live", "copy"), self.lines, strict=True)},
        }  # fmt: skip


@dataclass(frozen=True)
class Against:
    """The answer. `open` are pages of the copy that may be fetched and indexed by an audited crawler, and `pointing` how many of
    them have a canonical that points to the live page; `closed_by` is what decides its start page. `missing` are pages that are
    open on the live site and that the copy does not have, `unknown` those that one side did not read: the copy's URL, side, reason."""

    copy: str
    live: str
    open_count: int
    open: tuple[str, ...]
    pointing: int
    closed_by: tuple[Evidence, ...]
    common: int
    differing: int
    missing: tuple[str, ...]
    unknown: tuple[tuple[str, str, str], ...]
    only_copy: int
    differences: tuple[Difference, ...] = field(default=())
    rules: tuple[dict[str, object], ...] = ()
    robots: tuple[str, str] = ("", "")

    @property
    def is_closed(self) -> bool:
        return self.open_count == 0 and not self.was_not_read

    @property
    def was_not_read(self) -> bool:
        """Whether no page is open only because none was there: the start page is missing, broken, or gave no response."""
        texts = [e.text for e in self.closed_by if e.kind == "status"]
        return self.open_count == 0 and bool(texts) and not texts[0].startswith(tuple(map(str, LOGIN)))

    @property
    def sentence(self) -> str:
        if self.was_not_read:
            what = "nothing of the copy was read, so whether it is closed is unknown"
        elif self.is_closed:
            what = "the copy is closed: no page of it can be fetched and indexed"
            if self.closed_by and self.closed_by[0].text.startswith(tuple(map(str, LOGIN))):
                what = "the copy is closed: it requires a login"
        else:
            what = f"the copy is open: {plural(self.open_count, 'page')} not closed"
            if self.pointing:
                some = (
                    "their canonicals" if self.pointing == self.open_count else f"the canonicals of {self.pointing:,}"
                )
                what += f", {some} point to the live page, which is only a hint"
        missing = (
            f"; {plural(len(self.missing), 'live page')} {verb(len(self.missing), 'is', 'are')} missing on it"
            if self.missing
            else ""
        )
        return (
            f"{self.copy}, compared with {self.live}: {what}; {self.differing:,} of {plural(self.common, 'common page')} "
            f"{verb(self.differing, 'differs', 'differ')}{missing}"
        )

    def as_json(self) -> dict[str, object]:
        return {
            "sentence": self.sentence, "closed": self.is_closed, "open_count": self.open_count, "open": list(self.open),
            "pointing_to_live": self.pointing, "closed_by": [e.as_json() for e in self.closed_by], "common": self.common,
            "differing": self.differing, "unread": len(self.unknown), "only_live": len(self.missing),
            "only_copy": self.only_copy, "examples": list(self.missing[:FEW]), "missing": list(self.missing),
            "unknown": [{"url": url, "side": side, "because": because} for url, side, because in self.unknown],
            "differences": [d.as_json() for d in self.differences],
            "robots": dict(zip(("live", "copy"), self.robots, strict=True)), "rules": list(self.rules),
        }  # fmt: skip


def sample(copy: Site) -> list[str]:
    """The start page and a few others that the copy returned."""
    pages = f"""SELECT origin || path FROM fact WHERE html AND status < 300 AND origin = ? ORDER BY id <> ?, hash(path) LIMIT {SAMPLE}"""
    return [url for (url,) in copy.rows(pages, [copy.base_origin, copy.front_id])]


def against(copy: Site, live: Site, without_login: Mapping[str, int | None] | None = None) -> Against:
    """Compare a copy with the live site. `without_login` is the status of some of the copy's URLs requested without the headers that
    it was read with: it is closed if these all require a login. Raises AuditCutShort if they have no URL in common."""
    sides = Sides(live, copy, AddressMap.of_folders(live.base, copy.base))
    shown, closed_by = _open(copy, without_login or {})
    pages = _Pages(sides)
    return Against(
        spoken_of(copy), spoken_of(live), len(shown), tuple(shown[:FEW]),
        sum(pages.canonical.get(url) == THE_LIVE_PAGE for url in shown), closed_by or _closed_by(copy),
        pages.common, len(pages.differing), tuple(pages.missing), tuple(pages.unknown), pages.only_copy,
        tuple(pages.differences(sides)), tuple(changed_rules(live, copy)),
        (_robots_status(live), _robots_status(copy)),
    )  # fmt: skip


_OPEN = """SELECT origin || path FROM fact WHERE known AND origin = ? AND html AND status < 300 AND {mask} & ~barred & ~noindex > 0
    ORDER BY path"""
"""A canonical that leads to the live site is a hint, and closes nothing."""


def _open(copy: Site, without_login: Mapping[str, int | None]) -> tuple[list[str], tuple[Evidence, ...]]:
    """The copy's pages that are not closed, and what closes it if it requires a login."""
    shown = [url for (url,) in copy.rows(_OPEN.format(mask=copy.all_mask), [copy.base_origin])]
    locked = {url: status for url, status in without_login.items() if status in LOGIN}
    if not locked:
        return shown, ()
    url, status = next(iter(locked.items()))
    if len(locked) == len(without_login):
        return [], (Evidence("status", url, None, f"{status_text(status, None)}, without the login"),)
    return [one for one in shown if one not in locked], ()


def _closed_by(copy: Site) -> tuple[Evidence, ...]:
    """What keeps the start page from being listed: the rule, status or directive."""
    start = copy.front_id
    if start is None:
        return ()
    found = [e for e in decides(reasons(copy, [start]).get(start, ()), len(copy.crawlers) - 1) if e.kind != "canonical"]
    return tuple(found or said(copy, [start], copy.all_mask).get(start, ()))


def _robots_status(site: Site) -> str:
    host = site.robots.get(site.base_origin)
    return status_text(host.status, host.error) if host and host.known else "not read"


class _Pages:
    """The live site's pages beside the copy's."""

    def __init__(self, sides: Sides) -> None:
        self.common, self.only_copy = 0, 0
        self.missing: list[str] = []
        self.differing: set[str] = set()
        self.groups: dict[tuple[str, str, str], list[tuple[str, str]]] = {}
        self.canonical: dict[str, str] = {}
        self.unknown: list[tuple[str, str, str]] = []
        live, copy = sides.before, sides.after
        theirs, mine = self._answers(live, "stands_for", "other", "elsewhere"), self._answers(copy)
        self.to_copy = {
            url
            for (url,) in live.rows(
                """SELECT DISTINCT a.origin || a.path FROM canonical c JOIN address a ON a.id = c.address
                JOIN address t ON t.id = c.target WHERE NOT c.in_body AND t.origin = ? AND a.origin <> t.origin""",
                [copy.base_origin],
            )
        }
        theirs = {
            url: row for url, row in theirs.items() if row["html"] or row["leads"] or (row["status"] or 500) >= 500
        }
        said_there = self._said(live, "stands_for", "other", "elsewhere")
        said_here = self._said(copy)
        unread_live = Unreadable(live).why(row["url"] for row in theirs.values())
        unread_copy = Unreadable(copy)
        unread = unread_copy.why([*theirs, *mine])
        for url, there in theirs.items():
            here = mine.get(url)
            if because := unread_live.get(there["url"]):
                if here is None or here["read"]:
                    self.unknown.append((url, "live", because))
            elif here is None:
                self._not_on_copy(url, there, unread_copy.whole, copy.traits.is_live)
            elif because := unread.get(url):
                self.unknown.append((url, "copy", because))
            else:
                self._hold(
                    url, there, here, said_there.get(url, ("none", "none")), said_here.get(url, ("none", "none"))
                )
        self.only_copy = sum(url not in theirs and row["html"] and row["status"] < 300 for url, row in mine.items())

    def _answers(
        self, site: Site, places: str = "address", origin: str = "origin", path: str = "path"
    ) -> dict[str, dict[str, Any]]:
        """By the copy's URL what each page answers; `places` holds the URLs as they stand on the copy."""
        names = ("at", "url", "read", "status", "leads", "open", "html")
        rows = site.rows(
            f"""SELECT p.{origin} || p.{path}, f.origin || f.path, f.read, f.status,
                CASE WHEN f.fold_how IN ('redirect', 'refresh') THEN t.{origin} || t.{path} END, f.open > 0, f.html
            FROM (SELECT * FROM fact WHERE known AND origin = ?) f JOIN {places} p ON p.id = f.id LEFT JOIN {places} t ON t.id = f.folds_to
            ORDER BY ALL""",
            [site.base_origin],
        )
        return {row[0]: dict(zip(names, row, strict=True)) for row in rows}

    @staticmethod
    def _said(site: Site, *places: str) -> dict[str, tuple[str, str]]:
        sql = f"SELECT origin || path, robots, canonical FROM ({said_sql(*places)})"
        return {url: (robots, canonical) for url, robots, canonical in site.rows(sql)}

    def _not_on_copy(self, url: str, there: Mapping[str, Any], whole: str | None, is_live: bool) -> None:
        if is_live or whole:
            self.unknown.append((url, "copy", whole or "not requested: nothing on the copy leads to it"))
        elif there["open"]:
            self.missing.append(there["url"])

    def _hold(
        self,
        url: str,
        there: Mapping[str, Any],
        here: Mapping[str, Any],
        said_there: Sequence[str],
        said_here: Sequence[str],
    ) -> None:
        self.common += 1
        if there["open"] and here["status"] in range(400, 500) and here["status"] not in LOGIN:
            self.missing.append(there["url"])
        self.canonical[url] = _canonical(url, there["url"], said_here[1])
        pairs = [("status", str(there["status"]), str(here["status"]))]
        if there["status"] == here["status"]:
            pairs = [("redirect", there["leads"] or "none", here["leads"] or "none")]
            if pairs[0][1] == pairs[0][2]:
                pairs = [
                    ("robots", said_there[0], said_here[0]),
                    ("canonical", self._live_canonical(url, there["url"], said_there[1]), self.canonical[url]),
                ]
        for what, live, copy in pairs:
            if live != copy and (what, live, copy) != ("canonical", ITSELF, THE_LIVE_PAGE):
                self.differing.add(url)
                self.groups.setdefault((what, live, copy), []).append((url, there["url"]))

    def _live_canonical(self, url: str, live: str, target: str) -> str:
        """The same for a live page, whose target is given as it stands on the copy; one that points to the copy is no page's own."""
        return THE_COPY if live in self.to_copy else _canonical(url, live, target)

    def differences(self, sides: Sides) -> list[Difference]:
        """Pages by how they differ, most pages first, with the lines of the first of them."""
        found = []
        for (what, live, copy), pages in sorted(self.groups.items(), key=lambda pair: (-len(pair[1]), pair[0])):
            at, there = pages[0]
            lines = (_line(sides.before, there, what), _line(sides.after, at, what))
            found.append(Difference(what, live, copy, len(pages), tuple(url for url, _ in pages[:FEW]), lines))
        return found


def _canonical(url: str, live: str, target: str) -> str:
    """A canonical in words that are the same for all pages of which it is true."""
    if target in (url, "none"):
        return ITSELF
    if target == live:
        return THE_LIVE_PAGE
    origin, here = target.partition("://")[2].partition("/"), url.partition("://")[2].partition("/")
    return f"the same path on {target[: -len(origin[2]) - 1]}" if origin[2] == here[2] else target


def _line(site: Site, url: str, what: str) -> Evidence | None:
    """Where it stands that a page says or answers so; None if nothing says it."""
    number = [id for (id,) in site.rows("SELECT id FROM fact WHERE origin || path = ?", [url])]
    if what == "robots":
        rows = of_each(
            site, number,
            f"""SELECT d.address, d.origin, d.line, d.text, {WHERE} FROM directive d JOIN picked ON picked.id = d.address
            JOIN address a ON a.id = d.address JOIN answer n ON n.address = d.address
            WHERE d.void IS NULL AND len(d.tokens) > 0 ORDER BY d.origin, d.line, d.text""",
        )  # fmt: skip
        return next(
            (Evidence("header" if origin else "tag", where, line, text) for _, origin, line, text, where in rows), None
        )
    if what == "canonical":
        return next(iter(found[0] for found in canonicals(site, number).values()), None)
    return next(iter(found[-1] for found in answers(site, number).values()), None)
