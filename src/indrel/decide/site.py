"""A snapshot seen by a set of crawlers: one row an address that says what each of them can do with it.

Crawlers are bits of a mask, in the order they were asked for, so that one row holds the states for
all of them, and a question for any of them is one scan. `fact` is that table; every check reads it.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from indrel.core.address import origin_of, site_key, split
from indrel.core.crawlers import Crawler
from indrel.core.intent import Intent, WantEntry, parse_intent
from indrel.core.model import State, Want
from indrel.core.page.facts import Mark
from indrel.core.page.wording import LITTLE, SKETCH
from indrel.core.robots import Access, Paths, RobotsFile, Rule, Ruleset, access_for, decide, match_many, parse
from indrel.core.robots.match import ALWAYS_ALLOWED
from indrel.decide.kinds import ARCHIVES, JUNK, kind_sql, rule_sql, telling_sql
from indrel.decide.sections import FOLDERS_SQL, Sections
from indrel.errors import UsageError
from indrel.snapshot import Snapshot
from indrel.sqltext import quoted, quoted_list

MAX_CRAWLERS = 60
SAME_MISSING = 0.85
"""Share of runs of words from which on a page is taken to be the host's error page (of a text that is long enough)."""

WORDS_TO_COMPARE = 12


class HostRobots(NamedTuple):
    """What holds on one origin, as its robots.txt answered (`known` false: it was never asked)."""

    origin: str
    url: str
    known: bool
    status: int | None
    error: str | None
    media_type: str
    hops: tuple[str, ...]
    final: str
    body: bytes
    role: str
    where: str
    access: Access
    file: RobotsFile

    def ruleset(self, crawler: Crawler) -> Ruleset:
        return self.file.ruleset(crawler.robots_tokens) if self.access is Access.RULES else Ruleset(None, ())


def kept_intent(snapshot: Snapshot) -> Intent:
    """The intent that a snapshot was gathered under; an empty one if there was none."""
    kept = snapshot.meta.get("intent")
    return parse_intent(kept["text"], kept["where"]) if kept else Intent()


class Site:
    """Decisions over one snapshot for the given crawlers. Everything derived is made on first use."""

    def __init__(
        self,
        snapshot: Snapshot,
        crawlers: Sequence[Crawler],
        instead: dict[str, tuple[bytes, str]] | None = None,
        intent: Intent | None = None,
        sitemaps: Path | None = None,
    ) -> None:
        """Decide for `crawlers`, under an `intent` (without, the one that is kept with the snapshot).

        `instead` gives origins another robots.txt (its octets, and what to call it); `sitemaps` is a
        snapshot whose sitemaps take the place of this one's.
        """
        if len(crawlers) > MAX_CRAWLERS:
            raise UsageError(f"{len(crawlers)} crawlers are too many at once: name at most {MAX_CRAWLERS}")
        self.snapshot = snapshot
        self.con = snapshot.con
        self.meta = snapshot.meta
        self.crawlers = tuple(crawlers)
        self.all_mask = (1 << len(crawlers)) - 1
        self.instead = instead or {}
        self.intent = intent if intent and intent.where else kept_intent(snapshot)
        self.kept: dict[str, Any] = {}  # what several questions share, by name
        self._rulesets: dict[tuple[str, str], Ruleset] = {}
        self._paths: dict[str, tuple[npt.NDArray[np.int32], Paths]] = {}
        self.base: str = self.meta["base"]
        self.base_origin = origin_of(self.base)
        if sitemaps:
            self._replace_sitemaps(sitemaps)
        self._stage()

    def _replace_sitemaps(self, other: Path) -> None:
        """Let another snapshot's sitemaps stand in for this one's: temporary tables hide those of the file."""
        self.con.execute(f"ATTACH {quoted(str(other))} AS other (TYPE duckdb, READ_ONLY)")
        self.con.execute("CREATE TEMP TABLE sitemap AS SELECT * FROM other.sitemap")
        self.con.execute(
            """CREATE TEMP TABLE entry AS SELECT e.* REPLACE (a.id AS address) FROM other.entry e
            LEFT JOIN other.address o ON o.id = e.address
            LEFT JOIN address a ON a.origin = o.origin AND a.path = o.path"""
        )
        self.con.execute("DETACH other")

    # ---------------------------------------------------------------- small helpers

    def rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        return self.con.execute(sql, parameters).fetchall()

    def one(self, sql: str, parameters: Sequence[Any] | None = None) -> Any:
        return self.snapshot.one(sql, parameters)

    def names(self, mask: int) -> tuple[str, ...]:
        """The crawlers of a mask."""
        return tuple(c.token for i, c in enumerate(self.crawlers) if mask >> i & 1)

    def is_closed(self, origin: str) -> bool:
        """Whether the intent declares the host of an origin closed."""
        return site_key(origin + "/") in self.intent.closed

    def section(self, url: str) -> str:
        return self.sections.of(url)

    @cached_property
    def sections(self) -> Sections:
        return Sections(self.base_origin, (folder for folder, _ in self.rows(FOLDERS_SQL, [self.base_origin])))

    @property
    def is_live(self) -> bool:
        """Whether answers have statuses and headers of a server."""
        return bool(self.meta["source"]["kind"] in ("site", "warc") or self.meta.get("located"))

    @property
    def is_lone_file(self) -> bool:
        """Whether only a robots.txt is known, and no address."""
        return bool(self.meta["source"]["kind"] == "robots")

    @property
    def complete(self) -> bool:
        return bool(self.meta.get("complete"))

    @cached_property
    def starts(self) -> dict[str, str]:
        """The start page of each host of the site, by origin; the audited one first."""
        declared = self.rows(
            "SELECT a.origin, a.origin || a.path FROM given g JOIN address a ON a.id = g.address "
            "WHERE g.why = 'host' ORDER BY a.origin"
        )
        return {self.base_origin: self.base, **dict(declared)}

    @cached_property
    def start_id(self) -> int | None:
        found = self.one("SELECT id FROM address WHERE origin || path = ?", [self.base])
        return None if found is None else int(found)

    def id_of(self, url: str) -> int | None:
        parts = split(url)
        found = self.one("SELECT id FROM address WHERE origin = ? AND path = ?", [parts.origin, parts.path])
        return None if found is None else int(found)

    # ---------------------------------------------------------------- robots.txt

    @cached_property
    def robots(self) -> dict[str, HostRobots]:
        """robots.txt of every origin that was asked."""
        found = {}
        for origin, status, error, media, hops, final, body, role, known, file in self.rows(
            "SELECT origin, status, error, media_type, hops, final, body, role, known, file FROM robots ORDER BY origin"
        ):
            access = access_for(status, len(hops)) if known else Access.ALL_ALLOWED
            content = parse(body or b"" if access is Access.RULES else b"")
            where = file or final or f"{origin}/robots.txt"
            found[origin] = HostRobots(
                origin, f"{origin}/robots.txt", known, status, error, media or "", tuple(hops), final, body or b"", role,
                where, access, content,
            )  # fmt: skip
        for origin, (body, where) in self.instead.items():
            found[origin] = HostRobots(
                origin, f"{origin}/robots.txt", True, 200, None, "text/plain", (), f"{origin}/robots.txt", body, "site",
                where, Access.RULES, parse(body),
            )  # fmt: skip
        return found

    def rule_for(self, url: str, crawler: Crawler) -> tuple[bool, Rule | None, Ruleset | None]:
        """Whether a crawler may fetch an address, the rule that says so and the rules that hold for it."""
        parts = split(url)
        host = self.robots.get(parts.origin)
        if host is None or host.access is Access.ALL_ALLOWED:
            return True, None, None
        if parts.path == ALWAYS_ALLOWED:
            return True, None, None
        if host.access is Access.ALL_BARRED:
            return False, None, None
        key = (parts.origin, crawler.token)
        rules = self._rulesets.get(key)
        if rules is None:
            rules = self._rulesets[key] = host.ruleset(crawler)
        allowed, rule = decide(rules.rules, parts.path)
        return allowed, rule, rules

    def _stage_barred(self) -> None:
        """`barred`: one row an address that some crawler may not fetch."""
        self.con.execute("CREATE TEMP TABLE barred (address INTEGER, mask UBIGINT)")
        for host in self.robots.values():
            if host.access is Access.ALL_BARRED:
                self.con.execute(
                    f"INSERT INTO barred SELECT id, {self.all_mask} FROM address WHERE origin = ? AND path <> ?",
                    [host.origin, ALWAYS_ALLOWED],
                )
            elif host.access is Access.RULES:
                self._bar_by_rules(host)

    def _bar_by_rules(self, host: HostRobots) -> None:
        groups: dict[Any, tuple[Ruleset, int]] = {}
        for i, crawler in enumerate(self.crawlers):
            rules = host.ruleset(crawler)
            if any(not r.allow for r in rules.rules):
                groups[rules.key] = (rules, groups.get(rules.key, (rules, 0))[1] | 1 << i)
        if not groups:
            return
        ids, paths = self.paths(host.origin)
        mask = np.zeros(len(ids), dtype=np.uint64)
        for rules, bits in groups.values():
            bars = np.array([not r.allow for r in rules.rules] + [False], dtype=bool)
            mask[bars[match_many(rules.rules, paths)]] |= np.uint64(bits)
        chosen = mask > 0
        self._insert("barred", {"address": pa.array(ids[chosen], pa.int32()), "mask": pa.array(mask[chosen])})

    def paths(self, origin: str) -> tuple[npt.NDArray[np.int32], Paths]:
        """All addresses of an origin but robots.txt itself: their numbers, and their paths ready to be matched."""
        if origin not in self._paths:
            table: Any = self.con.sql(
                "SELECT id, path FROM address WHERE origin = ? AND path <> ?", params=[origin, ALWAYS_ALLOWED]
            ).to_arrow_table()
            column = table.column("path").combine_chunks()
            self._paths[origin] = (table.column("id").to_numpy(), Paths(column))
        return self._paths[origin]

    def _insert(self, name: str, columns: dict[str, Any]) -> None:
        self.con.register("incoming", pa.table(columns))
        self.con.execute(f"INSERT INTO {name} SELECT * FROM incoming")
        self.con.unregister("incoming")

    # ---------------------------------------------------------------- the table of addresses

    def _stage(self) -> None:
        self._stage_barred()
        self._stage_directives()
        self._stage_folds()
        self.con.execute(
            """CREATE TEMP TABLE mention AS SELECT address, bool_or(listed) AS listed, bool_or(named) AS named FROM (
                SELECT address, true AS listed, false AS named FROM entry WHERE address IS NOT NULL
                UNION ALL SELECT c.target, false, true FROM fold c WHERE c.target <> c.address AND c.how = 'canonical'
                UNION ALL SELECT target, false, false FROM answer WHERE target IS NOT NULL
                UNION ALL SELECT refresh, false, false FROM page WHERE refresh IS NOT NULL
                UNION ALL SELECT target, false, false FROM canonical WHERE target IS NOT NULL
                UNION ALL SELECT target, false, false FROM alternate
                UNION ALL SELECT address, false, false FROM given WHERE why <> 'variant'
            ) GROUP BY address"""
        )
        start = -1 if self.start_id is None else self.start_id
        all_mask = self.all_mask
        self._stage_missing()
        self.con.execute(
            f"""CREATE TEMP TABLE fact AS
            SELECT *, {self._want_sql} AS want,
                CASE WHEN tail = '' THEN ({all_mask} & ~barred & noindex) ELSE 0 END::UBIGINT AS hidden,
                CASE WHEN tail = '' THEN ({all_mask} & ~barred & ~noindex) ELSE 0 END::UBIGINT AS open
            FROM (SELECT *, {self._entry_sql} AS entry, CASE WHEN status IS NOT NULL AND ended = '' AND (matches_missing
                OR kind = 'error') THEN 'broken' ELSE ended END AS tail
            FROM (SELECT *, {kind_sql("kind_rule")} AS kind
            FROM (SELECT *, {rule_sql()} AS kind_rule, {self._closed_sql} AS closed
            FROM (
                SELECT a.id, a.origin, a.path, a.site,
                    a.site AND (m.address IS NOT NULL OR i.target IS NOT NULL
                        OR (n.address IS NOT NULL AND v.address IS NULL)) AS known,
                    n.address IS NOT NULL AS read, n.status, n.error, n.media_type,
                    CASE WHEN n.address IS NULL THEN 'unread'
                        WHEN n.status IN (401, 403, 407) THEN 'locked'
                        WHEN n.status IN (408, 425, 429) OR n.status >= 500 OR n.status IS NULL THEN 'broken'
                        WHEN n.status >= 400 THEN 'gone'
                        WHEN f.looped THEN 'broken'
                        WHEN f.target IS NOT NULL THEN 'folded'
                        WHEN n.status >= 300 THEN 'broken'
                        ELSE '' END AS ended,
                    f.target AS folds_to, f.how AS fold_how, f.final AS folds_into,
                    coalesce(b.mask, 0)::UBIGINT AS barred,
                    coalesce(d.noindex, 0)::UBIGINT AS noindex, coalesce(d.nofollow, 0)::UBIGINT AS nofollow,
                    coalesce(m.listed, false) AS listed, coalesce(m.named, false) AS named,
                    a.id = {start} AS start,
                    coalesce(i.followed, 0) AS followed, coalesce(i.unfollowed, 0) AS unfollowed, i.source AS linked_by,
                    p.address IS NOT NULL AS html, p.types, coalesce(p.marks, 0) AS marks,
                    coalesce(p.own_words, 0) AS own_words, coalesce(p.own_links, 0) AS own_links, p.text_hash,
                    g.address IS NOT NULL AS matches_missing, {telling_sql("a.path")} AS telling
                FROM address a
                LEFT JOIN answer n ON n.address = a.id
                LEFT JOIN page p ON p.address = a.id
                LEFT JOIN fold f ON f.address = a.id
                LEFT JOIN barred b ON b.address = a.id
                LEFT JOIN directed d ON d.address = a.id
                LEFT JOIN mention m ON m.address = a.id
                LEFT JOIN inlink i ON i.target = a.id
                LEFT JOIN given v ON v.address = a.id AND v.why = 'variant'
                LEFT JOIN missing g ON g.address = a.id
            ))))"""
        )

    @property
    def _closed_sql(self) -> str:
        """Whether an address stands on a host that is declared closed."""
        names = quoted_list(sorted(self.intent.closed))
        return f"substr(origin, strpos(origin, '://') + 3) IN ({names})" if self.intent.closed else "false"

    @property
    def _entry_sql(self) -> str:
        """The number of the intent's entry that decides (the last that matches), or null."""
        entries = list(enumerate(self.intent.wants))
        cases = [f"WHEN {e.sql(self.intent.closed)} THEN {number}" for number, e in reversed(entries)]
        return f"CASE {' '.join(cases)} END::INTEGER" if cases else "NULL::INTEGER"

    @property
    def _want_sql(self) -> str:
        """What is wanted: as the intent states it, else implied."""
        stated = [f"WHEN entry = {number} THEN '{e.want}'" for number, e in enumerate(self.intent.wants)]
        junk = quoted_list(JUNK)
        return f"""CASE {" ".join(stated)} WHEN closed THEN '{Want.ANY}'
            WHEN start OR listed OR named THEN '{Want.SHOW}'
            WHEN kind IN ({junk}) OR ({self.empty_archive_sql}) THEN '{Want.HIDE}' ELSE '{Want.ANY}' END"""

    @property
    def empty_archive_sql(self) -> str:
        """Whether a page that should list others lists none."""
        kinds = quoted_list(ARCHIVES)
        says = f"marks & {int(Mark.SAYS_EMPTY)} > 0 OR marks & {int(Mark.SAYS_ERROR)} > 0"
        return f"html AND status = 200 AND kind IN ({kinds}) AND own_words <= {LITTLE} AND ({says} OR own_links = 0)"

    def _stage_missing(self) -> None:
        """`missing`: pages that are their host's error page, as a made-up address showed it, though they answer 200.

        Hosts whose start page is that same page (an app's shell) tell nothing.
        """
        self.con.execute("CREATE TEMP TABLE missing (address INTEGER)")
        probes = self.rows(
            "SELECT origin, text_hash, sketch FROM probe WHERE final_status = 200 AND status = 200 AND text_hash IS NOT NULL"
        )
        for origin, digest, sketch in probes:
            start = self.rows(
                "SELECT p.text_hash FROM page p JOIN address a ON a.id = p.address WHERE a.origin = ? AND a.path = '/'",
                [origin],
            )
            if any(found == digest for (found,) in start):
                continue
            self.con.execute(
                "INSERT INTO missing SELECT p.address FROM page p JOIN address a ON a.id = p.address "
                "WHERE a.origin = ? AND a.path <> '/' AND p.text_hash = ?",
                [origin, digest],
            )
            if sketch is not None:
                self._insert_alike(origin, digest, sketch)

    def _insert_alike(self, origin: str, digest: int, sketch: bytes) -> None:
        """Pages whose text is nearly the error page's (it may hold a date or a number)."""
        found = self.con.execute(
            "SELECT p.address, p.sketch FROM page p JOIN address a ON a.id = p.address WHERE a.origin = ? AND a.path <> '/' "
            f"AND p.sketch IS NOT NULL AND p.text_hash <> ? AND p.own_words >= {WORDS_TO_COMPARE}",
            [origin, digest],
        ).fetchall()
        if not found:
            return
        runs = np.frombuffer(b"".join(row[1] for row in found), dtype=np.uint16).reshape(len(found), 2 * SKETCH)
        same = (runs == np.frombuffer(sketch, dtype=np.uint16)).mean(axis=1) >= SAME_MISSING
        ids = np.array([row[0] for row in found], dtype=np.int32)[same]
        self._insert("missing", {"address": pa.array(ids, pa.int32())})

    def _stage_directives(self) -> None:
        """`directed`: per address the crawlers told noindex and nofollow."""
        masks: dict[str, int] = {}
        for i, crawler in enumerate(self.crawlers):
            for scope in crawler.scopes:
                masks[scope] = masks.get(scope, 0) | 1 << i
        self.con.execute("CREATE TEMP TABLE scope (name VARCHAR, mask UBIGINT)")
        self.con.executemany("INSERT INTO scope VALUES (?, ?)", [[n, m] for n, m in sorted(masks.items())])
        self.con.execute(
            f"""CREATE TEMP TABLE directed AS SELECT address,
                bit_or(CASE WHEN noindex OR {self.expired_sql} THEN mask ELSE 0 END) AS noindex,
                bit_or(CASE WHEN nofollow THEN mask ELSE 0 END) AS nofollow
            FROM directive JOIN scope ON scope.name = directive.scope WHERE void IS NULL GROUP BY address"""
        )

    @property
    def expired_sql(self) -> str:
        """Whether a directive's date had passed when the audit began."""
        started = str(self.meta.get("started") or "")[:19]
        return f"coalesce(substr(expires, 1, 19) < {quoted(started)}, false)"

    def _stage_folds(self) -> None:
        """`fold`: where an address leads (redirect, refresh, canonical), and where that ends."""
        self.con.execute(
            """CREATE TEMP TABLE step AS
            SELECT address, first(how ORDER BY rank) AS how, first(target ORDER BY rank) AS target FROM (
                SELECT address, 1 AS rank, 'redirect' AS how, target FROM answer WHERE target IS NOT NULL
                UNION ALL SELECT address, 2, 'refresh', refresh FROM page WHERE refresh IS NOT NULL AND refresh <> address
                UNION ALL SELECT address, 3, 'canonical', target FROM (
                    SELECT c.address, min(c.target) AS target FROM canonical c JOIN answer n ON n.address = c.address
                    WHERE c.fault IS NULL AND NOT c.in_body AND c.target IS NOT NULL AND n.status < 300
                    GROUP BY c.address HAVING min(c.target) = max(c.target) AND min(c.target) <> c.address)
            ) GROUP BY address"""
        )
        steps = self.con.execute("SELECT address, target, how = 'redirect' FROM step").fetchnumpy()
        address, target = (np.asarray(steps[n], dtype=np.int64) for n in ("address", "target"))
        size = int(self.one("SELECT coalesce(max(id), 0) + 1 FROM address"))
        final, looped = follow(address, target, size)
        self.con.execute("CREATE TEMP TABLE ended (address INTEGER, final INTEGER, looped BOOLEAN)")
        self._insert(
            "ended",
            {
                "address": pa.array(address, pa.int32()),
                "final": pa.array(final, pa.int32(), mask=looped),
                "looped": pa.array(looped),
            },
        )
        self.con.execute(
            """CREATE TEMP TABLE fold AS SELECT s.address, s.how, s.target, e.final,
            e.looped AND s.how <> 'canonical' AS looped FROM step s JOIN ended e ON e.address = s.address"""
        )

    # ---------------------------------------------------------------- states, wants, kinds

    def state_sql(self, index: int) -> str:
        """The state for one crawler as an SQL expression over `fact`."""
        bit = 1 << index
        return (
            f"CASE WHEN barred & {bit} > 0 THEN 'barred' WHEN tail <> '' THEN tail "
            f"WHEN hidden & {bit} > 0 THEN 'hidden' ELSE 'open' END"
        )

    def state_counts(self) -> dict[str, dict[str, int]]:
        """Per crawler, how many known addresses are in each state."""
        counts = {}
        for i, crawler in enumerate(self.crawlers):
            found = dict(self.rows(f"SELECT {self.state_sql(i)} AS s, count(*) FROM fact WHERE known GROUP BY s"))
            counts[crawler.token] = {s.value: found[s.value] for s in State if s.value in found}
        return counts

    def entry(self, number: int | None) -> WantEntry | None:
        """The intent's entry of a number in `fact.entry`."""
        return None if number is None else self.intent.wants[number]

    def close(self) -> None:
        self.snapshot.close()


def follow(
    address: npt.NDArray[np.int64], target: npt.NDArray[np.int64], size: int
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.bool_]]:
    """Where chains of single steps end, by doubling the stride; chains that never end are loops."""
    onward = np.arange(size, dtype=np.int64)
    onward[address] = target
    leads = np.zeros(size, dtype=bool)
    leads[address] = True
    strides = max(1, int(np.ceil(np.log2(len(address) + 2))))
    for _ in range(strides):
        onward = onward[onward]
    return onward[address], leads[onward[address]]
