"""Two audits side by side, the earlier one's URLs brought over to the places of the later one: the one comparison on which
`compare`, the gate, `--against`, the ledger's and the report's `--since` rest."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from indrel.ask.removed_pages import vanished
from indrel.ask.unknown import UNKNOWN, unknown_state_sql, unreachable
from indrel.base.errors import AuditCutShort, UsageError
from indrel.base.sqltext import quoted_list
from indrel.core.mapping import AddressMap
from indrel.core.model import State, Want
from indrel.core.robots import Access
from indrel.decide.site import Site


@dataclass(frozen=True, slots=True)
class StateChange:
    """One address whose state changed for one crawler; `moved_to` is the open page that it redirects to now."""

    url: str
    crawler: str
    before: str
    after: str
    wanted: bool
    want: str = "any"
    moved_to: str | None = None

    @property
    def is_worse(self) -> bool:
        """Wanted, open before, and known not to be now, without having moved."""
        return self.wanted and self.before == State.OPEN and self.moved_to is None

    @property
    def is_better(self) -> bool:
        return self.wanted and self.after == State.OPEN

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url,
            "crawler": self.crawler,
            "before": self.before,
            "after": self.after,
            "wanted": self.wanted,
        }


class Sides:
    """An earlier audit beside a later one: tables `earlier`, `earlier_said` and `earlier_listed` of the later one's connection hold
    the earlier one's URLs as `places` maps them.

    Raises UsageError if they are seen by different crawlers, and AuditCutShort if no URL is in both: nothing can be concluded from
    two audits of different places.
    """

    def __init__(self, before: Site, after: Site, places: AddressMap | None = None) -> None:
        if [c.token for c in before.crawlers] != [c.token for c in after.crawlers]:
            raise UsageError("the two snapshots are seen by different crawlers: name them with --crawler")
        self.before, self.after = before, after
        self.places = places or AddressMap.between(before.base, after.base)
        self._bring_over()
        self.common = int(after.one("SELECT count(*) FROM fact JOIN earlier USING (origin, path) WHERE known"))
        if not self.common and before.one("SELECT count(*) FROM fact WHERE known AND site"):
            raise AuditCutShort(
                f"nothing was compared: no URL is in both audits, one is of {before.base} and one of {after.base}; "
                "give both the same base (--base), or say with --map which place stands for which"
            )

    def _bring_over(self) -> None:
        before = self.before
        origin, path = self.places.sql(
            "a.origin", "a.path", [one for (one,) in before.rows("SELECT DISTINCT origin FROM address")]
        )
        before.con.execute(
            f"CREATE OR REPLACE TEMP TABLE stands_for AS SELECT a.id, {origin} AS other, {path} AS elsewhere FROM address a"
        )
        states = ", ".join(f"{before.state_sql(i)} AS s{i}" for i in range(len(before.crawlers)))
        self.carry(
            "earlier",
            f"SELECT m.other AS origin, m.elsewhere AS path, want, kind, html, {unknown_state_sql(before)} AS unseen, {states} "
            "FROM fact JOIN stands_for m USING (id) WHERE known",
        )
        self.carry("earlier_said", said_sql("stands_for", "other", "elsewhere"))
        self.carry(
            "earlier_listed",
            "SELECT DISTINCT m.other AS origin, m.elsewhere AS path, s.url AS file FROM entry e "
            "JOIN sitemap s ON s.id = e.sitemap JOIN stands_for m ON m.id = e.address",
        )

    def carry(self, name: str, sql: str) -> None:
        """Answers of the earlier audit as a table of the later one's connection."""
        data: Any = self.before.con.sql(sql).to_arrow_table()
        con = self.after.con
        con.register(f"incoming_{name}", data)
        con.execute(f"CREATE OR REPLACE TEMP TABLE {name} AS SELECT * FROM incoming_{name}")
        con.unregister(f"incoming_{name}")

    @cached_property
    def shut(self) -> str:
        """The later audit's hosts whose robots.txt could not be had, for a query's IN."""
        return origins(unreachable(self.after))

    @cached_property
    def shut_then(self) -> str:
        return origins(map(self.places.origin, unreachable(self.before)))

    def _both_known(self, i: int, state: str) -> str:
        """Whether the i-th crawler's states in both audits are known, over `fact` and `earlier` as `e`; `state` gives the later one."""
        unknown = unknown_state_sql(self.after)
        return (
            f"NOT ({unknown} AND ({state} <> 'barred' OR origin IN ({self.shut}))) "
            f"AND NOT (e.unseen AND (e.s{i} <> 'barred' OR origin IN ({self.shut_then})))"
        )

    @cached_property
    def same(self) -> int:
        """URLs that have in both audits the same known states for all crawlers."""
        states = [self.after.state_sql(i) for i in range(len(self.after.crawlers))]
        every = [f"{state} = e.s{i} AND {self._both_known(i, state)}" for i, state in enumerate(states)]
        return int(
            self.after.one(
                f"SELECT count(*) FROM fact JOIN earlier e USING (origin, path) WHERE known AND {' AND '.join(every)}"
            )
        )

    @cached_property
    def states(self) -> list[StateChange]:
        """Addresses whose state changed, by crawler: wanted ones that got worse first."""
        after = self.after
        found = []
        for i, crawler in enumerate(after.crawlers):
            found += [
                StateChange(url, crawler.token, old, new, wanted, want, to if old == State.OPEN else None)
                for url, old, new, wanted, want, to in after.rows(
                    f"""SELECT origin || path AS url, e.s{i}, {after.state_sql(i)} AS state,
                        fact.want = 'show' OR (e.want = 'show' AND fact.entry IS NULL), fact.want,
                        CASE WHEN tail = 'folded' AND fold_how IN ('redirect', 'refresh') AND there.opens & {1 << i} > 0
                            THEN there.url END
                    FROM fact JOIN earlier e USING (origin, path)
                    LEFT JOIN (SELECT id AS place, open AS opens, origin || path AS url FROM fact) there
                        ON there.place = coalesce(folds_into, folds_to)
                    WHERE known AND state <> e.s{i} AND {self._both_known(i, "state")} ORDER BY url"""
                )
            ]
        found += [
            StateChange(page.url, crawler.token, state, State.GONE, page.want == Want.SHOW, page.want)
            for page in vanished(after)
            for crawler, state in zip(after.crawlers, page.states, strict=True)
            if state != State.GONE
        ]
        found += self._barred_now()
        return sorted(found, key=lambda c: (not c.is_worse, not c.wanted, c.after == State.OPEN, c.url))

    def _barred_now(self) -> list[StateChange]:
        """Pages of the earlier audit that the later one did not come across, and that its robots.txt blocks: a rule that blocks a
        URL says so whether or not anything else could be read."""
        after = self.after
        known = {o: h for o, h in after.robots.items() if h.known and h.access is Access.RULES}
        seen = ", ".join(f"s{i}" for i in range(len(after.crawlers)))
        rows = after.rows(
            f"""SELECT origin, path, kind, want, {seen} FROM earlier ANTI JOIN (SELECT origin, path FROM fact WHERE known)
            USING (origin, path) WHERE NOT unseen AND origin IN ({origins(known)}) ORDER BY origin, path"""
        )
        found = []
        for origin, path, kind, want, *states in rows:
            url = origin + path
            entries = after.intent.deciding(url, kind)
            wish = entries[0].want if entries else want
            for crawler, state in zip(after.crawlers, states, strict=True):
                if state != State.BARRED and not known[origin].verdict.decide(path, crawler).allowed:
                    found.append(StateChange(url, crawler.token, state, State.BARRED, wish == Want.SHOW, wish))
        return found

    @property
    def lost_sight(self) -> list[str]:
        """URLs that both audits know and of which the later one cannot tell the state, though the earlier one could."""
        return [
            url
            for (url,) in self.after.rows(
                f"""SELECT origin || path AS url FROM fact JOIN earlier e USING (origin, path) WHERE known AND ({UNKNOWN})
                AND (barred = 0 OR origin IN ({self.shut})) AND NOT e.unseen ORDER BY url"""
            )
        ]


def origins(names: Iterable[str]) -> str:
    """Origins for a query's IN, which must not be empty."""
    return quoted_list(["", *sorted(names)])


def said_sql(places: str = "address", origin: str = "origin", path: str = "path") -> str:
    """What each page says of robots and canonical, in words that can be compared; `places` holds the URLs, by `id`."""
    target = f"t.{origin} || t.{path}"
    return f"""SELECT p.{origin} AS origin, p.{path} AS path,
    coalesce((SELECT string_agg(t, '; ' ORDER BY t) FROM (SELECT DISTINCT CASE WHEN d.scope = '' THEN '' ELSE d.scope || ': ' END
        || array_to_string(d.tokens, ', ') AS t FROM directive d WHERE d.address = f.id AND d.void IS NULL AND len(d.tokens) > 0)),
        'none') AS robots,
    coalesce((SELECT string_agg(DISTINCT {target}, '; ' ORDER BY {target}) FROM canonical c
        JOIN {places} t ON t.id = c.target WHERE c.address = f.id AND c.fault IS NULL AND NOT c.in_body), 'none') AS canonical
FROM fact f JOIN {places} p ON p.id = f.id WHERE f.known AND f.read AND f.status < 300"""
