"""A snapshot seen by a set of crawlers, under an intent: the thin face of the decided rows.

What is decided is kept in the snapshot with the key it rests on: facts, crawlers, intent, and the code that
decides. Where the key still holds nothing is decided again; where it does not, the rows are made in temporary
tables that hide the file's. Another robots.txt or other sitemaps are never kept.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, date, datetime
from functools import cache, cached_property, wraps
from importlib.resources import files
from itertools import starmap
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from indrel.base.errors import UsageError
from indrel.base.sqltext import quoted
from indrel.core.address import origin_of, site_key, split
from indrel.core.crawlers import Crawler
from indrel.core.intent import Intent, WantEntry, parse_intent
from indrel.core.model import LONE, SOURCES, State, Traits
from indrel.core.robots import Decision, HostRobots, Ruleset, Verdict
from indrel.decide.predicates import ROW_TRAITS, TRAITS, Terms
from indrel.decide.sections import FOLDERS_SQL, Sections
from indrel.snapshot import Snapshot
from indrel.snapshot.schema import TABLES

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    from indrel.core.robots import Paths

MAX_CRAWLERS = 60
_DECIDING = ("core", "decide", "checks")
"""Rooms of the package that what is decided hangs on."""

T = TypeVar("T")
UNKNOWN_HOST = Verdict.of(None, 0, b"", known=False)


def kept_intent(snapshot: Snapshot) -> Intent:
    """The intent that a snapshot was gathered under; an empty one if there was none."""
    kept = snapshot.meta.get("intent")
    return parse_intent(kept["text"], kept["where"], known_good=True) if kept else Intent()


@cache
def code_key() -> str:
    """A digest of all the code that decides and checks: another Indrel decides again."""
    digest = hashlib.blake2b(digest_size=16)
    rooms = [files("indrel").joinpath(name) for name in _DECIDING]
    while rooms:
        room = rooms.pop(0)
        for item in sorted(room.iterdir(), key=lambda i: i.name):
            if item.is_dir():
                rooms.append(item)
            elif item.name.endswith((".py", ".toml")):
                digest.update(item.name.encode() + b"\0" + item.read_bytes())
    return digest.hexdigest()


def decided_key(crawlers: Sequence[Crawler], intent: Intent, today: date) -> str:
    """What decided rows rest on beside the facts; writing facts forgets what was decided of them."""
    digest = hashlib.blake2b(code_key().encode(), digest_size=16)
    for text in (*(c.token for c in crawlers), "", intent.where, intent.text):
        digest.update(text.encode() + b"\0")
    for accepted in intent.accepted:  # an acceptance ends on its day
        digest.update(b"1" if accepted.until is None or today <= accepted.until else b"0")
    return digest.hexdigest()


def once(asked: Callable[[Site], T]) -> Callable[[Site], T]:
    """Have a function of a site work out its answer once, however many questions ask it."""
    name = f"{asked.__module__}.{asked.__name__}"

    @wraps(asked)
    def answer(site: Site) -> T:
        if name not in site.kept:
            site.kept[name] = asked(site)
        found: T = site.kept[name]
        return found

    return answer


class Site:
    """Decisions over one snapshot for the given crawlers. Whatever else is derived is made on first use."""

    def __init__(
        self,
        snapshot: Snapshot,
        crawlers: Sequence[Crawler],
        instead: Mapping[str, tuple[bytes, str]] | None = None,
        intent: Intent | None = None,
        sitemaps: Path | None = None,
        today: date | None = None,
    ) -> None:
        """Decide for `crawlers`, under an `intent` (without, the one that is kept with the snapshot).

        `instead` gives origins another robots.txt (its bytes, and what to call it); `sitemaps` is a
        snapshot whose sitemaps take the place of this one's; `today` is the day for accepted findings.
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
        self.today = today or datetime.now(UTC).date()
        self.terms = Terms(self.intent, str(self.meta.get("started") or ""))
        self.kept: dict[str, Any] = {}  # what several questions share, by the name of what works it out
        self._rulesets: dict[tuple[str, str], Ruleset] = {}
        self._paths: dict[str, tuple[npt.NDArray[np.int32], Paths]] = {}
        self.base: str = self.meta["base"]
        self.base_origin = origin_of(self.base)
        self.key = None if instead or sitemaps else decided_key(self.crawlers, self.intent, self.today)
        self._names: dict[int, tuple[str, ...]] = {}
        self.decided: dict[str, Any] | None = None
        """What is kept beside the decided rows, where they are those of the file."""
        decided = self.meta.get("decided")
        if decided and decided.get("key") == self.key:
            self.decided = decided
        else:
            if sitemaps:
                self._replace_sitemaps(sitemaps)
            self._stage()

    def _stage(self) -> None:
        from indrel.decide.build import Stage

        start = None if self.is_part else self.start_id
        views = self.meta.get("missing_views")
        Stage(self.con, self.crawlers, self.terms, self.robots, start, views).run()

    def _replace_sitemaps(self, file: Path) -> None:
        """Let another snapshot's sitemaps stand in for this one's: temporary tables hide those of the file."""
        with Snapshot(file) as other:
            taken: Any = other.con.sql("SELECT * FROM sitemap").to_arrow_table()
            entries: Any = other.con.sql(
                "SELECT e.*, o.origin, o.path FROM entry e LEFT JOIN address o ON o.id = e.address"
            ).to_arrow_table()
        self.con.register("incoming", taken)
        self.con.execute("CREATE TEMP TABLE sitemap AS SELECT * FROM incoming")
        self.con.unregister("incoming")
        self.con.register("incoming", entries)
        self.con.execute(
            """CREATE TEMP TABLE entry AS SELECT e.* EXCLUDE (origin, path) REPLACE (a.id AS address) FROM incoming e
            LEFT JOIN address a ON a.origin = e.origin AND a.path = e.path"""
        )
        self.con.unregister("incoming")

    # ---------------------------------------------------------------- small helpers

    def rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        return self.con.execute(sql, parameters).fetchall()

    def named(self, kind: Callable[..., T], sql: str, parameters: Sequence[Any] | None = None) -> list[T]:
        """The rows of a query as named ones, whose fields are its columns in order."""
        return list(starmap(kind, self.rows(sql, parameters)))

    def one(self, sql: str, parameters: Sequence[Any] | None = None) -> Any:
        return self.snapshot.one(sql, parameters)

    def holds(self, table: str) -> bool:
        """Whether a table of facts holds a row: one is asked for alone where checks have not asked for all."""
        if "filled" in self.__dict__:
            return table in self.filled
        return bool(self.rows(f"SELECT 1 FROM {table} LIMIT 1"))

    @cached_property
    def filled(self) -> frozenset[str]:
        """The tables of facts that hold a row, and the TRAITS and ROW_TRAITS that an address or a row has."""
        found = self.rows(" UNION ALL ".join(f"(SELECT {quoted(t)} FROM {t} LIMIT 1)" for t in TABLES))
        held = {name for (name,) in found}
        asked = {"fact": {name: f"bool_or({has})" for name, has in TRAITS.items()}}
        asked |= {table: traits for table, traits in ROW_TRAITS.items() if table in held}
        for table, traits in asked.items():
            row = self.rows(f"SELECT {', '.join(traits.values())} FROM {table}")[0]
            held |= {name for name, has in zip(traits, row, strict=True) if has}
        return frozenset(held)

    def names(self, mask: int) -> tuple[str, ...]:
        """The crawlers of a mask."""
        found = self._names.get(mask)
        if found is None:
            found = self._names[mask] = tuple(c.token for i, c in enumerate(self.crawlers) if mask >> i & 1)
        return found

    def is_closed(self, origin: str) -> bool:
        """Whether the intent declares the host of an origin closed."""
        return site_key(origin + "/") in self.intent.closed

    def section(self, url: str) -> str:
        return self.sections.of(url)

    @cached_property
    def sections(self) -> Sections:
        if self.decided:
            return Sections(self.base_origin, self.decided["folders"])
        return Sections(self.base_origin, (folder for folder, _ in self.rows(FOLDERS_SQL, [self.base_origin])))

    @property
    def is_live(self) -> bool:
        """Whether answers have statuses and headers of a server."""
        return self.traits.is_live or bool(self.meta.get("located"))

    @property
    def is_lone_file(self) -> bool:
        """Whether only a robots.txt is known, and no address."""
        return bool(self.meta["source"]["kind"] == "robots")

    @cached_property
    def is_part(self) -> bool:
        """Whether nothing stands where a folder's start page would: it is taken for a part of a site."""
        of_folder = self.meta["source"]["kind"] in SOURCES and not self.is_live
        return of_folder and not self.rows("SELECT 1 FROM answer WHERE address = ?", [self.start_id])

    @property
    def traits(self) -> Traits:
        """What holds for its kind of source."""
        return SOURCES.get(self.meta["source"]["kind"], LONE)

    @property
    def shell_hosts(self) -> list[str]:
        """Hosts that return a shell for a URL that cannot exist, which was not rendered: whether their pages exist is unknown."""
        from indrel.decide.seen import SHELL

        rows = self.rows(
            f"""SELECT DISTINCT b.origin FROM probe b JOIN address a ON a.origin = b.origin JOIN page p ON p.address = a.id
            WHERE b.final_status = 200 AND b.folder IS NULL AND p.text_hash = b.text_hash AND {SHELL} ORDER BY b.origin"""
        )
        return [origin for (origin,) in rows if origin not in (self.meta.get("missing_views") or {})]

    @property
    def read_a_page(self) -> bool:
        """Whether the audit got a response to any URL of its site: nothing rests on one that did not."""
        return bool(self.one("SELECT count(*) FROM fact WHERE site AND read AND status IS NOT NULL"))

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
    def fronts(self) -> dict[str, str]:
        """By origin, where a host's start page stands: at its address, mostly, or where that leads on the site."""
        from indrel.decide.build import front

        led_on = """SELECT f.folds_to, t.site FROM fact f JOIN fact t ON t.id = f.folds_to
            WHERE f.id = ? AND f.tail = 'folded' AND f.fold_how <> 'canonical'"""
        found = {}
        for origin, start in self.starts.items():
            number = self.id_of(start)
            at = self.front_id
            if origin != self.base_origin:
                at = None if number is None else front(self.rows, led_on, number)
            led = at is not None and at != number
            found[origin] = self.one("SELECT origin || path FROM address WHERE id = ?", [at]) if led else start
        return found

    @cached_property
    def front_id(self) -> int | None:
        """The page that the audited host's start page stands at, as it was decided; None where a folder has none."""
        found = self.one("SELECT id FROM fact WHERE start")
        return None if found is None else int(found)

    @cached_property
    def start_id(self) -> int | None:
        return self.id_of(self.base)

    def id_of(self, url: str) -> int | None:
        parts = split(url)
        found = self.one("SELECT id FROM address WHERE origin = ? AND path = ?", [parts.origin, parts.path])
        return None if found is None else int(found)

    # ---------------------------------------------------------------- robots.txt

    @cached_property
    def robots(self) -> dict[str, HostRobots]:
        """robots.txt of every origin that was asked."""
        found = {
            row[0]: HostRobots.answered(*row)
            for row in self.rows(
                "SELECT origin, status, error, media_type, hops, final, body, role, known, file FROM robots ORDER BY origin"
            )
        }
        return found | {origin: HostRobots.given(origin, *given) for origin, given in self.instead.items()}

    def rule_for(self, url: str, crawler: Crawler) -> Decision:
        """Whether a crawler may fetch an address, the rule that says so and the rules that hold for it."""
        parts = split(url)
        host = self.robots.get(parts.origin)
        if host is None:
            return UNKNOWN_HOST.decide(parts.path, crawler)
        key = (parts.origin, crawler.token)
        rules = self._rulesets.get(key)
        if rules is None:
            rules = self._rulesets[key] = host.ruleset(crawler)
        return host.verdict.decide(parts.path, crawler, rules)

    def paths(self, origin: str) -> tuple[npt.NDArray[np.int32], Paths]:
        """All addresses of an origin but robots.txt itself: their numbers, and their paths ready to be matched."""
        if origin not in self._paths:
            from indrel.decide.build import paths_of

            self._paths[origin] = paths_of(self.con, origin)
        return self._paths[origin]

    # ---------------------------------------------------------------- states, wants, kinds

    @property
    def empty_archive_sql(self) -> str:
        return self.terms.empty_archive

    @property
    def expired_sql(self) -> str:
        return self.terms.expired

    def state_sql(self, index: int) -> str:
        """The state for one crawler as an SQL expression over `fact`."""
        bit = 1 << index
        return (
            f"CASE WHEN barred & {bit} > 0 THEN 'barred' WHEN tail <> '' THEN tail "
            f"WHEN hidden & {bit} > 0 THEN 'hidden' ELSE 'open' END"
        )

    @property
    def states_sql(self) -> str:
        """The states for all crawlers, in their order, as SQL expressions with commas between them."""
        return ", ".join(self.state_sql(i) for i in range(len(self.crawlers)))

    def looked_for(self, mask: str) -> str:
        """A mask of `render` (bits of the crawlers that were gathered for) as a mask of the crawlers asked about, in SQL."""
        kept: list[str] = self.meta.get("crawlers") or []
        bits = [
            f"CASE WHEN {mask} & {1 << kept.index(one.token)} > 0 THEN {1 << i} ELSE 0 END"
            for i, one in enumerate(self.crawlers)
            if one.token in kept
        ]
        return f"({' | '.join(bits) or '0'})::UBIGINT"

    def state_counts(self) -> dict[str, dict[str, int]]:
        """Per crawler, how many known addresses are in each state."""
        found = self.rows(f"SELECT [{self.states_sql}] AS states, count(*) FROM fact WHERE known GROUP BY states")
        counts: dict[str, dict[str, int]] = {}
        for i, crawler in enumerate(self.crawlers):
            tally = Counter[str]()
            for of_each, count in found:
                tally[of_each[i]] += count
            counts[crawler.token] = {s.value: tally[s.value] for s in State if s.value in tally}
        return counts

    def folded_by(self) -> dict[str, dict[str, int]]:
        """Per crawler, how many known URLs are folded by a redirect or refresh, and how many by a canonical."""
        found = self.rows(
            f"""SELECT [{self.states_sql}], count(*) FILTER (fold_how <> 'canonical'), count(*) FILTER (fold_how = 'canonical')
            FROM fact WHERE known AND tail = 'folded' GROUP BY 1"""
        )
        counts = {crawler.token: {"redirect": 0, "canonical": 0} for crawler in self.crawlers}
        for of_each, redirects, canonicals in found:
            for tally, state in zip(counts.values(), of_each, strict=True):
                if state == State.FOLDED:
                    tally["redirect"] += redirects
                    tally["canonical"] += canonicals
        return counts

    def entry(self, number: int | None) -> WantEntry | None:
        """The intent's entry of a number in `fact.entry`."""
        return None if number is None else self.intent.wants[number]

    def close(self) -> None:
        self.snapshot.close()
