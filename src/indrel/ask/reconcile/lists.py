"""An engine's list against the site: what each side knows, and what the site itself shows as the cause."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from indrel.ask.reconcile.tables import Columns, OutsideRow, learn, outside_rows
from indrel.base.arrow import pa
from indrel.base.plain import code
from indrel.base.sqltext import quoted_list
from indrel.checks.evidence import robots_line
from indrel.core.address import normalise, origin_of, split
from indrel.core.model import Evidence, State, plural
from indrel.decide.graph import link_graph
from indrel.decide.kinds import implied_want, kind_of_address
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

MOST_SHOWN = 2_000
"""Addresses of one sort that are explained."""

DEEP = 5
"""Clicks from which on a page counts as far from the start page."""


@dataclass(frozen=True, slots=True)
class Listed:
    """An address that the engine lists, though here it cannot or should not be."""

    url: str
    state: str
    why: str
    evidence: tuple[Evidence, ...]
    since: str | None

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url, "state": self.state, "why": self.why, "since": self.since,
            "evidence": [e.as_json() for e in self.evidence],
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Missed:
    """A wanted and open page that the engine does not list. `because` is what the site shows, `reason` the engine's word."""

    url: str
    because: str
    reason: str | None

    def as_json(self) -> dict[str, object]:
        return {"url": self.url, "because": self.because, "reason": self.reason}


@dataclass(frozen=True, slots=True)
class Row:
    """One row of the table: what the engine says, the state here and what decides it, what to do.

    `urgency` orders rows by what to do: 0 to fix, 1 to decide, 2 to ask the engine, 3 to find out, 4 to wait, 5 nothing.
    """

    url: str
    says: str
    listed: bool | None
    state: str
    want: str
    by: Evidence | None
    do: str
    urgency: int
    since: str | None = None
    reason: str | None = None

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url, "says": self.says, "listed": self.listed, "state": self.state, "want": self.want,
            "by": self.by.as_json() if self.by else None, "do": self.do, "since": self.since, "reason": self.reason,
        }  # fmt: skip


BARE = "regexp_replace(regexp_replace({}, '^https?://', ''), '^www\\.', '')"
"""The host of an origin, without www."""

OTHER_SITE = "other site"
"""What stands for the state of a URL that is on another site."""


@dataclass(frozen=True)
class Reconciled:
    """What a list and a snapshot know of each other."""

    rows: int
    matched: int
    listed: int
    columns: Columns
    listed_but: list[Listed]
    wanted_not_listed: list[Missed]
    unknown: dict[str, list[str]]
    elsewhere: list[str]
    unusable: list[str]
    reasons: dict[str, dict[str, int]]
    table: list[Row]
    """Every row that is on this site, sorted by what to do."""

    is_list: bool
    """Whether the table is of what the engine lists: then what it lacks is not listed there."""

    @property
    def other_site(self) -> str | None:
        """A URL of the table, of the host that most of it is of, if none of them is on this site: then nothing was compared."""
        if not self.elsewhere or self.table:
            return None
        host = Counter(map(origin_of, self.elsewhere)).most_common(1)[0][0]
        return next(url for url in self.elsewhere if origin_of(url) == host)

    @property
    def cannot(self) -> list[Row]:
        """The rows of URLs that cannot be indexed here."""
        return [row for row in self.table if row.state not in (State.OPEN, State.UNREAD, "unknown")]

    def as_json(self) -> dict[str, object]:
        return {
            "rows": self.rows, "matched": self.matched, "listed": self.listed,
            "listed_but": [one.as_json() for one in self.listed_but],
            "wanted_not_listed": [one.as_json() for one in self.wanted_not_listed],
            "unknown": self.unknown, "elsewhere": self.elsewhere, "unusable": self.unusable, "reasons": self.reasons,
            "table": [row.as_json() for row in self.table],
        }  # fmt: skip


def reconcile(
    site: Site, path: Path, column: str | None = None, listed: bool | None = None, status_column: str | None = None,
    listed_values: Sequence[str] = (),
) -> Reconciled:  # fmt: skip
    """Set a table against a snapshot. Raises InputError where the table cannot be read or is not understood."""
    columns = learn(path, column, status_column, listed_values, listed)
    read = 0
    unusable: list[str] = []
    kept: dict[str, OutsideRow] = {}
    for row in outside_rows(path, columns):
        read += 1
        url = whole(row.written, site)
        if url is None:
            if len(unusable) < MOST_SHOWN:
                unusable.append(row.written[:300])
        elif url not in kept or (row.listed and not kept[url].listed):
            kept[url] = row
    _match(site, kept)
    matched, on_list = site.rows("SELECT count(*) FILTER (id IS NOT NULL), count(*) FILTER (listed) FROM outside")[0]
    missed = _missed(site, on_list > 0) if read else []
    unknown, elsewhere = _not_here(site)
    return Reconciled(
        read, matched, on_list, columns, _listed_but(site), missed, unknown, elsewhere, unusable, _reasons(site),
        _row_by_row(site, missed), on_list > 0,
    )  # fmt: skip


def whole(text: str, site: Site) -> str | None:
    """The address that a table means: whole, without a scheme, or a path on the site."""
    text = text.strip().strip('"<>').removesuffix("?")
    if text.startswith(("http://", "https://")):
        return normalise(text)
    scheme = split(site.base).scheme
    if text.startswith("//"):
        return normalise(f"{scheme}:{text}")
    if text.startswith("/"):
        return normalise(text, site.base)
    return normalise(f"{scheme}://{text}") if "." in text.partition("/")[0] and " " not in text else None


def _match(site: Site, kept: dict[str, OutsideRow]) -> None:
    """`outside`: per row of the table the known address it means, in any of the forms that addresses are written in."""
    urls = list(kept)
    parts = [split(u) for u in urls]
    site.con.register(
        "incoming",
        pa.table(
            {
                "row": pa.array(range(len(urls)), pa.int32()),
                "origin": pa.array([p.origin for p in parts], pa.string()),
                "path": pa.array([p.path for p in parts], pa.string()),
                "listed": pa.array([kept[u].listed for u in urls], pa.bool_()),
                "said": pa.array([kept[u].said for u in urls], pa.string()),
                "reason": pa.array([kept[u].reason for u in urls], pa.string()),
                "since": pa.array([kept[u].when for u in urls], pa.string()),
            }
        ),
    )
    slash = "CASE WHEN contains({0}, '?') THEN {0} WHEN ends_with({0}, '/') THEN rtrim({0}, '/') ELSE {0} || '/' END"
    site.con.execute(
        f"""CREATE OR REPLACE TEMP TABLE outside AS
        WITH known AS (SELECT id, origin, path, {BARE.format("origin")} AS host FROM fact WHERE known),
        form AS (SELECT *, {BARE.format("origin")} AS host, {slash.format("path")} AS other FROM incoming)
        SELECT f.row, any_value(f.origin) AS origin, any_value(f.path) AS path, any_value(f.listed) AS listed,
            any_value(f.said) AS said, any_value(f.reason) AS reason, any_value(f.since) AS since,
            first(k.id ORDER BY (k.origin = f.origin AND k.path = f.path) DESC, k.path = f.path DESC, k.origin = f.origin DESC)
                FILTER (k.id IS NOT NULL) AS id
        FROM form f LEFT JOIN known k ON k.host = f.host AND (k.path = f.path OR k.path = f.other) GROUP BY f.row"""
    )
    site.con.unregister("incoming")


def _state(site: Site) -> str:
    return site.state_sql(len(site.crawlers) - 1)


def _reasons(site: Site) -> dict[str, dict[str, int]]:
    """What the table gives as reasons, and the states here of the addresses that it gives them for."""
    found: dict[str, dict[str, int]] = {}
    ours = quoted_list(["", *sorted(_hosts(site))])
    for reason, where, count in site.rows(
        f"""SELECT coalesce(o.reason, o.said) AS because, CASE WHEN o.id IS NOT NULL THEN {_state(site)}
            WHEN {BARE.format("o.origin")} IN ({ours}) THEN 'unknown' ELSE '{OTHER_SITE}' END AS state, count(*)
        FROM outside o LEFT JOIN fact ON fact.id = o.id WHERE because IS NOT NULL GROUP BY ALL ORDER BY count(*) DESC, because, state"""
    ):
        found.setdefault(reason, {})[where] = count
    return found


def _hosts(site: Site) -> set[str]:
    """The site's hosts, without www."""
    return {split(origin + "/").host.removeprefix("www.") for origin in site.starts}


def _not_here(site: Site) -> tuple[dict[str, list[str]], list[str]]:
    """Addresses of the table that the audit does not know: of the site by section, and of other hosts."""
    unknown: dict[str, list[str]] = {}
    elsewhere: list[str] = []
    hosts = _hosts(site)
    for origin, path in site.rows("SELECT origin, path FROM outside WHERE id IS NULL ORDER BY origin, path"):
        url = origin + path
        if split(url).host.removeprefix("www.") in hosts:
            unknown.setdefault(site.section(url), []).append(url)
        else:
            elsewhere.append(url)
    return unknown, elsewhere


def _listed_but(site: Site) -> list[Listed]:
    """What the table lists and the site does not let be listed, with what stands against it."""
    rows = site.rows(
        f"""SELECT fact.id, fact.origin || fact.path, {_state(site)} AS state, o.since,
            (SELECT t.origin || t.path FROM address t WHERE t.id = coalesce(folds_into, folds_to))
        FROM outside o JOIN fact ON fact.id = o.id WHERE o.listed AND state NOT IN ('open', 'unread')
        ORDER BY state, fact.origin, fact.path LIMIT {MOST_SHOWN}"""
    )
    found = []
    index = len(site.crawlers) - 1
    behind = reasons(site, [row[0] for row in rows])
    for number, url, how, since, into in rows:
        evidence = tuple(decides(behind.get(number, ()), index))
        said = f"{code(evidence[0].text)}" if evidence else ""
        if how == State.BARRED:
            why = f"{said} blocks it" if evidence and evidence[0].line else "its host is closed to crawlers"
        elif how == State.HIDDEN:
            why = "it has noindex"
        elif how == State.FOLDED:
            why = f"it leads to {into}" if into else "it leads to another URL"
        else:
            why = f"it returns “{evidence[0].text}”" if evidence else "it does not respond"
        found.append(Listed(url, how, why, tuple(evidence[:2]), since))
    return found


def _missed(site: Site, is_list: bool) -> list[Missed]:
    """Wanted pages that are open for all crawlers, and that the table does not list."""
    rows = site.rows(
        f"""SELECT f.id, f.origin || f.path, f.listed, f.followed, f.unfollowed, coalesce(o.reason, o.said), f.start FROM fact f
        LEFT JOIN outside o ON o.id = f.id
        WHERE f.known AND NOT f.closed AND f.want = 'show' AND f.open = {site.all_mask} AND NOT coalesce(o.listed, false)
            AND ({is_list} OR o.listed = false)
        ORDER BY f.origin, f.path LIMIT {MOST_SHOWN}"""
    )
    clicks: Any = None
    if site.start_id is not None and rows:
        clicks = link_graph(site).clicks(site.start_id, len(site.crawlers) - 1)
    from indrel.decide.twins import open_twins

    twins = {number: t for t in open_twins(site) for number in t.ids} if rows else {}
    has_sitemap = site.holds("sitemap")
    found = []
    for number, url, listed, followed, unfollowed, reason, start in rows:
        depth = int(clicks[number]) if clicks is not None else -1
        others = [u for u in twins[number].urls if u != url] if number in twins else []
        if others:
            because = f"the same content is open at {others[0]}"
        elif not start and not followed and not unfollowed and depth >= 0:
            because = "only a redirect leads to it"
        elif not start and not followed and not unfollowed:
            because = "no page that was read links to it"
        elif not start and depth < 0 and followed + unfollowed:
            because = "every path to it needs a nofollow link"
        elif depth > DEEP:
            because = f"it is {depth} clicks from the home page"
        elif not start and followed == 1:
            because = "only one page links to it"
        elif not listed and has_sitemap:
            because = "it is not in any sitemap"
        else:
            because = "nothing on the site forbids it"
        found.append(Missed(url, because, reason))
    return found


def _row_by_row(site: Site, missed: Sequence[Missed]) -> list[Row]:
    """Every row of the table on this site, with what decides its state here and what to do, sorted by what to do."""
    index = len(site.crawlers) - 1
    because = {one.url: one.because for one in missed}
    into = "(SELECT t.origin || t.path FROM address t WHERE t.id = coalesce(f.folds_into, f.folds_to))"
    hosts = _hosts(site)
    rows = site.rows(
        f"""SELECT f.id, coalesce(f.origin || f.path, o.origin || o.path) AS url, o.said, o.reason, o.listed, o.since, f.want, {into},
            coalesce(f.fold_how IN ('redirect', 'refresh'), false), CASE WHEN o.id IS NULL THEN 'unknown' ELSE {_state(site)} END AS state
        FROM outside o LEFT JOIN fact f ON f.id = o.id ORDER BY url"""
    )
    behind = reasons(site, [row[0] for row in rows if row[0] is not None])
    table = []
    for number, url, said, reason, listed, since, want, target, redirects, how in rows:
        if number is None and split(url).host.removeprefix("www.") not in hosts:
            continue
        by = next(iter(decides(behind.get(number, ()), index)), None)
        if number is None:
            how, want, by = _of_unknown(site, url)
        urgency, do = _what_to_do(how, want or "any", listed, by, target, because.get(url), redirects)
        says = said or ("indexed" if listed else "not known" if listed is None else "not indexed")
        table.append(Row(url, says, listed, how, want or "any", by, do, urgency, since, reason))
    return sorted(table, key=lambda r: (r.urgency, r.do, r.url))


def _of_unknown(site: Site, url: str) -> tuple[str, str, Evidence | None]:
    """State, want and deciding line of a URL that the audit does not know: robots.txt blocks without a fetch, and some kinds show in
    the URL."""
    kind = kind_of_address(url)
    entries = site.intent.deciding(url, kind)
    want = entries[0].want if entries else implied_want(kind)
    allowed, rule, _ = site.rule_for(url, site.crawlers[-1])
    host = site.robots.get(origin_of(url))
    if not allowed and rule and host:
        return State.BARRED, want, robots_line(host, rule.line, rule.text)
    return "unknown", want, None


def _what_to_do(
    state: str, want: str, listed: bool | None, by: Evidence | None, target: str | None, because: str | None,
    redirects: bool,
) -> tuple[int, str]:  # fmt: skip
    """How urgent, and what to do: from the state here, the want, and whether the engine indexes it, if that is known."""
    text = f"{code(by.text)}" if by else ""
    if state == "unknown" and want == "hide" and not listed:
        return 5, "nothing: pages of this kind are nearly always junk, and the audit does not know it"
    if state == "unknown":
        return 3, "audit it too: this audit does not know it (--unknown FILE, then audit --urls FILE)"
    if state == State.UNREAD:
        return 3, "read it: this audit did not (see explain)"
    if state == State.OPEN:
        if listed:
            return (
                (0, "hide it: it is open, but you do not want it indexed")
                if want in ("hide", "lock", "drop")
                else (5, "nothing: indexed and open")
            )
        if want in ("hide", "lock", "drop"):
            return 0, "hide it: it is open, so it can be indexed at any time, but you do not want it indexed"
        if listed is None:
            return 5, "nothing: it can be indexed"
        if want == "show":
            return 2, f"request a recrawl: here it is open, and {because or 'nothing on the site forbids it'}"
        return 1, "decide: it is open here; is it wanted?"
    if state == State.BARRED and by is not None and by.line is None and (want == "show" or listed):
        return 0, f"fix: robots.txt of its host must respond ({text}); until then nothing there may be fetched"
    if want == "show" and state == State.FOLDED and redirects:
        return (
            1,
            f"decide: it redirects to {target}; if that is meant, list and link that URL, and nothing else is to do",
        )
    if want == "show":
        fixes = {
            State.BARRED: f"fix: unblock it, {text} blocks it", State.HIDDEN: f"fix: remove the noindex ({text})",
            State.FOLDED: f"fix: it leads to {target}; let it be its own canonical",
            State.LOCKED: f"fix: it is forbidden ({text})",
            State.GONE: f"fix: restore or redirect it ({text})", State.BROKEN: f"fix: it returns an error ({text})",
        }  # fmt: skip
        return 0, fixes[State(state)]
    if not listed:
        return 5, f"nothing: {state} here, as it should be"
    if state == State.BARRED:
        return 0, f"unblock it so that crawlers see a noindex; while {text} applies, the bare URL can stay indexed"
    return 4, f"wait: {state} here, so it leaves the index at the next visit"


def summary(found: Reconciled) -> str:
    """What was read and matched, in a sentence; counted from the rows."""
    cannot = found.cannot
    unknown = sum(r.state == "unknown" for r in found.table)
    if all(r.listed is None for r in found.table) and found.table:
        lost = sum(r.want == "show" for r in cannot)
        return (
            f"{len(cannot):,} of these URLs cannot be indexed here{_by_state(cannot)}, "
            f"{lost:,} of them wanted; {unknown:,} unknown to the audit; nothing shows which of them are indexed"
        )
    but = [r for r in cannot if r.listed]
    missed = {one.url for one in found.wanted_not_listed} | {
        r.url for r in found.table if r.listed is False and r.want == "show"
    }
    return (
        f"{plural(len(but), 'indexed URL')} cannot be indexed here{_by_state(but)}; {plural(len(missed), 'wanted page')} not indexed "
        f"there; {unknown:,} unknown to the audit"
    )


def _by_state(rows: Sequence[Row]) -> str:
    states = Counter(row.state for row in rows)
    return f" ({', '.join(f'{n:,} {s}' for s, n in states.most_common())})" if states else ""
