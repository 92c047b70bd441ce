"""From facts to decided rows, for a set of crawlers and an intent: the one place where states and their reasons are made.

Crawlers are bits of a mask, in the order they were asked for, so that one row holds what is decided for
all of them. The rows are temporary tables of the names in `snapshot.schema.DECIDED`; `Snapshot.keep` makes them last.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from indrel.core.address import HOME_NAMES
from indrel.core.answers import status_text
from indrel.core.page.facts import SKETCH
from indrel.core.robots import ALWAYS_ALLOWED, Access, HostRobots, Ruleset, matching
from indrel.decide.chains import follow, follow_few
from indrel.decide.copies import stage_copied, stage_paged
from indrel.decide.kinds import NUMBERED, kind_sql, rule_sql, telling_sql
from indrel.decide.predicates import CANONICAL_COUNTS, MOST_AT_ONCE, Terms
from indrel.decide.seen import MARKS, SHELL, stage_seen

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    from indrel.core.crawlers import Crawler
    from indrel.core.robots import Paths

FEW = 200
"""Up to so many rows are decided one by one: the array libraries would take longer to load."""

SAME_MISSING = 0.85
"""Share of runs of words from which on a page is taken to be the host's error page (of a text that is long enough)."""

WORDS_TO_COMPARE = 12
LINKS_TO_SORT = 3
"""Links of its own from which on a page that shows the same words and as many links is another's in another order."""

SHELLS = f"SELECT 1 FROM page p JOIN address a ON a.id = p.address WHERE {SHELL}"
LOOPED = "a redirect that never ends"
ERROR_PAGE = "but it is an error page"


_LED_ON = """SELECT f.target, a.site FROM fold f JOIN address a ON a.id = f.target JOIN answer n ON n.address = f.address
    WHERE f.address = ? AND f.how <> 'canonical' AND n.status < 400"""


def front(rows: Callable[..., list[tuple[Any, ...]]], led_on: str, start: int) -> int:
    """The page on the site that a start address leads to by redirects and refreshes, as `led_on` gives the next; else itself."""
    at, been = start, {start}
    while found := rows(led_on, [at]):
        at, on_site = found[0]
        if at in been or not on_site:
            return start
        been.add(at)
    return at


class Stage:
    """Makes the decided tables in a connection to a snapshot."""

    def __init__(
        self, con: Any, crawlers: Sequence[Crawler], terms: Terms, robots: Mapping[str, HostRobots], start: int | None,
        missing_views: Mapping[str, int] | None = None,
    ) -> None:  # fmt: skip
        """`start` is the number of the start page, if it is known; `missing_views` are, by origin, hashes of what a URL that
        cannot exist shows once it is rendered."""
        self.missing_views = missing_views or {}
        self.con = con
        self.crawlers = crawlers
        self.terms = terms
        self.robots = robots
        self.start = -1 if start is None else start
        self.all_mask = (1 << len(crawlers)) - 1

    def run(self) -> None:
        self._barred()
        self._directives()
        self._folds()
        self.start = front(self._rows, _LED_ON, self.start)
        self._missing()
        self._variants()
        self._searched()
        stage_copied(self.con)
        stage_paged(self.con)
        stage_seen(self.con)
        self._facts()
        self._many_wants()
        self._reasons()

    def _rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        found: list[tuple[Any, ...]] = self.con.execute(sql, parameters).fetchall()
        return found

    def _insert(self, name: str, columns: dict[str, Any]) -> None:
        """Add arrays as columns, in the order of the table's."""
        from indrel.base.arrow import pa

        self.con.register("incoming", pa.table(columns))
        self.con.execute(f"INSERT INTO {name} SELECT * FROM incoming")
        self.con.unregister("incoming")

    def _insert_few(self, name: str, kinds: str, rows: Sequence[Sequence[Any]]) -> None:
        """Add rows whose columns have these kinds, without the array library."""
        if rows:
            columns = ", ".join(f"unnest(?::{kind}[])" for kind in kinds.split())
            self.con.execute(f"INSERT INTO {name} SELECT {columns}", [list(c) for c in zip(*rows, strict=True)])

    # ---------------------------------------------------------------- robots.txt

    def _barred(self) -> None:
        """`barred_by`: one row per URL, rule and set of crawlers that it blocks; `barred`: an address and its crawlers."""
        self.con.execute("CREATE TEMP TABLE barred_by (address INTEGER, mask UBIGINT, rule INTEGER)")
        self.con.execute("CREATE TEMP TABLE rule (id INTEGER, file VARCHAR, line INTEGER, text VARCHAR)")
        rules: list[tuple[int, str, int | None, str]] = []
        for host in self.robots.values():
            if host.access is Access.ALL_BARRED:
                self.con.execute(
                    f"INSERT INTO barred_by SELECT id, {self.all_mask}, {len(rules)} FROM address WHERE origin = ? AND path <> ?",
                    [host.origin, ALWAYS_ALLOWED],
                )
                rules.append((len(rules), host.url, None, status_text(host.status, host.error)))
            elif host.access is Access.RULES:
                self._bar_by_rules(host, rules)
        self._insert_few("rule", "INTEGER VARCHAR INTEGER VARCHAR", rules)
        self.con.execute(
            "CREATE TEMP TABLE barred AS SELECT address, bit_or(mask) AS mask FROM barred_by GROUP BY address"
        )

    def _bar_by_rules(self, host: HostRobots, told: list[tuple[int, str, int | None, str]]) -> None:
        groups: dict[Any, tuple[Ruleset, int]] = {}
        for i, crawler in enumerate(self.crawlers):
            rules = host.ruleset(crawler)
            if any(not r.allow for r in rules.rules):
                groups[rules.key] = (rules, groups.get(rules.key, (rules, 0))[1] | 1 << i)
        if not groups:
            return
        few = self._rows(f"{PATHS} LIMIT {FEW + 1}", [host.origin, ALWAYS_ALLOWED])
        if len(few) > FEW:
            self._bar_many(host, groups.values(), told)
            return
        for rules, bits in groups.values():
            lines = {id(rule): len(told) + n for n, rule in enumerate(rules.rules)}
            first = [(number, next(iter(matching(rules.rules, path)), None)) for number, path in few]
            barred = [(number, bits, lines[id(rule)]) for number, rule in first if rule and not rule.allow]
            self._insert_few("barred_by", "INTEGER UBIGINT INTEGER", barred)
            told += [(len(told) + n, host.where, r.line, r.text) for n, r in enumerate(rules.rules)]

    def _bar_many(
        self, host: HostRobots, groups: Iterable[tuple[Ruleset, int]], told: list[tuple[int, str, int | None, str]]
    ) -> None:
        import numpy as np

        from indrel.base.arrow import pa
        from indrel.core.robots import match_many

        ids, paths = paths_of(self.con, host.origin)
        for rules, bits in groups:
            bars = np.array([not r.allow for r in rules.rules] + [False], dtype=bool)
            decided = match_many(rules.rules, paths)
            chosen = bars[decided]
            count = int(chosen.sum())
            if count:
                self._insert(
                    "barred_by",
                    {
                        "address": pa.array(ids[chosen], pa.int32()),
                        "mask": pa.array(np.full(count, bits, dtype=np.uint64)),
                        "rule": pa.array(decided[chosen] + len(told), pa.int32()),
                    },
                )
            told += [(len(told) + n, host.where, r.line, r.text) for n, r in enumerate(rules.rules)]

    # ---------------------------------------------------------------- pages

    def _directives(self) -> None:
        """`scope`: the crawlers of each scope; `directed`: per address the crawlers told noindex and nofollow."""
        masks: dict[str, int] = {}
        for i, crawler in enumerate(self.crawlers):
            for scope in crawler.scopes:
                masks[scope] = masks.get(scope, 0) | 1 << i
        self.con.execute("CREATE TEMP TABLE scope (name VARCHAR, mask UBIGINT)")
        self.con.executemany("INSERT INTO scope VALUES (?, ?)", [[n, m] for n, m in sorted(masks.items())])
        self.con.execute(
            f"""CREATE TEMP TABLE directed AS SELECT address,
                bit_or(CASE WHEN noindex OR {self.terms.expired} THEN mask ELSE 0 END) AS noindex,
                bit_or(CASE WHEN nofollow THEN mask ELSE 0 END) AS nofollow
            FROM directive JOIN scope ON scope.name = directive.scope WHERE void IS NULL GROUP BY address"""
        )

    def _folds(self) -> None:
        """`fold`: where an address leads (redirect, refresh, script, canonical), and where that ends."""
        self.con.execute(
            f"""CREATE TEMP TABLE step AS
            SELECT address, first(how ORDER BY rank) AS how, first(target ORDER BY rank) AS target FROM (
                SELECT address, 1 AS rank, 'redirect' AS how, target FROM answer WHERE target IS NOT NULL
                UNION ALL SELECT address, 2, 'refresh', refresh FROM page WHERE refresh IS NOT NULL AND refresh <> address
                UNION ALL SELECT address, 3, 'script', min(leads_to) FROM render WHERE leads_to <> address GROUP BY address
                UNION ALL SELECT address, 4, 'canonical', target FROM (
                    SELECT c.address, min(c.target) AS target FROM canonical c JOIN answer n ON n.address = c.address
                    WHERE {CANONICAL_COUNTS} AND n.status < 300 GROUP BY c.address
                    HAVING min(c.target) = max(c.target) AND count(*) = count(c.target) AND min(c.target) <> c.address)
            ) GROUP BY address"""
        )
        self._follow("ended", "step")
        # A redirect that leads back to a page which has it as its canonical is no loop: there is an answer.
        self.con.execute(
            """CREATE TEMP TABLE answered AS SELECT s.address, s.target FROM step s JOIN ended e ON e.address = s.address
            WHERE e.looped AND s.how <> 'canonical'"""
        )
        self._follow("circled", "answered")
        self.con.execute(
            """CREATE TEMP TABLE fold AS SELECT s.address, s.how, s.target, e.final, coalesce(c.looped, false) AS looped
            FROM step s JOIN ended e ON e.address = s.address LEFT JOIN circled c ON c.address = s.address"""
        )

    def _follow(self, ends: str, steps: str) -> None:
        """Where the steps of a table end: a table of address, last address (none in a loop), whether it is a loop."""
        self.con.execute(f"CREATE TEMP TABLE {ends} (address INTEGER, final INTEGER, looped BOOLEAN)")
        few = self._rows(f"SELECT address, target FROM {steps} LIMIT {FEW + 1}")
        if len(few) <= FEW:
            found = follow_few(dict(few))
            return self._insert_few(
                ends, "INTEGER INTEGER BOOLEAN", [(a, end, end is None) for a, end in found.items()]
            )
        import numpy as np

        from indrel.base.arrow import arrays, pa

        address, target = (c.astype(np.int64) for c in arrays(self.con, f"SELECT address, target FROM {steps}"))
        size = int(self._rows("SELECT coalesce(max(id), 0) + 1 FROM address")[0][0])
        final, looped = follow(address, target, size)
        columns = {
            "address": pa.array(address, pa.int32()),
            "final": pa.array(final, pa.int32(), mask=looped),
            "looped": pa.array(looped),
        }
        self._insert(ends, columns)

    def _missing(self) -> None:
        """`missing`: pages that are their host's error page, as a URL that cannot exist showed it, though they answer 200.

        A shell, which only scripts fill, tells nothing as served: what it shows for that URL decides, if it was rendered.
        If that URL gets the home page's own text, so does every other URL that is missing.
        """
        self.con.execute("CREATE TEMP TABLE missing (address INTEGER)")
        answered = "final_status = 200 AND status = 200 AND text_hash IS NOT NULL"
        probes = self._rows(f"SELECT origin, text_hash, sketch FROM probe WHERE folder IS NULL AND {answered}")
        for origin, digest, sketch in probes:
            if origin in self.missing_views:
                self._missing_views(origin, self.missing_views[origin])
            if self._is_shell(origin, digest):
                continue
            self.con.execute(
                f"INSERT INTO missing SELECT p.address FROM page p JOIN address a ON a.id = p.address WHERE a.origin = ? "
                f"AND NOT regexp_matches(lower(split_part(a.path, '?', 1)), '{HOME_NAMES}') AND p.text_hash = ?",
                [origin, digest],
            )
            if sketch is not None and not self._is_start(origin, digest):
                self._insert_alike(origin, digest, sketch)

        for origin, folder, digest in self._rows(
            f"SELECT origin, folder, text_hash FROM probe WHERE folder IS NOT NULL AND {answered}"
        ):
            if not self._is_start(origin, digest):
                self._missing_there(origin, f"/{folder}/", digest)

    def _missing_views(self, origin: str, digest: int) -> None:
        """Shells of a host that show what the one of a URL that cannot exist shows."""
        self.con.execute(
            f"""INSERT INTO missing SELECT DISTINCT p.address FROM page p JOIN render r ON r.address = p.address
            JOIN address a ON a.id = p.address WHERE a.origin = ? AND a.path <> '/' AND {SHELL} AND r.text_hash = ?""",
            [origin, digest],
        )

    def _is_shell(self, origin: str, digest: int) -> bool:
        """Whether pages of a host that have this text are filled by scripts alone."""
        return bool(self._rows(f"{SHELLS} AND a.origin = ? AND p.text_hash = ? LIMIT 1", [origin, digest]))

    def _is_start(self, origin: str, digest: int) -> bool:
        """Whether a host's start page has this text."""
        start = "SELECT p.text_hash FROM page p JOIN address a ON a.id = p.address WHERE a.origin = ? AND a.path = '/'"
        return any(found == digest for (found,) in self._rows(start, [origin]))

    def _missing_there(self, origin: str, beginning: str, digest: int) -> None:
        """The same of one section, where some pages are that page: one alone, or the section's first page, may be a real one that
        stands in for the others, and where most are, only scripts fill them."""
        found = self._rows(
            "SELECT p.address, a.path, p.text_hash FROM page p JOIN address a ON a.id = p.address JOIN answer n ON n.address = a.id "
            "WHERE a.origin = ? AND starts_with(a.path, ?) AND n.status = 200",
            [origin, beginning],
        )
        same = [(number, path) for number, path, told in found if told == digest]
        first = any(path == beginning or path.startswith(f"{beginning}index.") for _, path in same)
        if 1 < len(same) < len(found) / 2 and not first:
            few = [(number,) for number, _ in same]
            self._insert_few("missing", "INTEGER", few)

    def _insert_alike(self, origin: str, digest: int, sketch: bytes) -> None:
        """Pages whose text is nearly the error page's (it may hold a date or a number)."""
        found = self._rows(
            "SELECT p.address, p.sketch FROM page p JOIN address a ON a.id = p.address WHERE a.origin = ? AND a.path <> '/' "
            f"AND p.sketch IS NOT NULL AND p.text_hash <> ? AND p.own_words >= {WORDS_TO_COMPARE}",
            [origin, digest],
        )
        if not found:
            return
        import numpy as np

        from indrel.base.arrow import pa

        runs = np.frombuffer(b"".join(row[1] for row in found), dtype=np.uint16).reshape(len(found), 2 * SKETCH)
        same = (runs == np.frombuffer(sketch, dtype=np.uint16)).mean(axis=1) >= SAME_MISSING
        ids = np.array([row[0] for row in found], dtype=np.int32)[same]
        self._insert("missing", {"address": pa.array(ids, pa.int32())})

    def _variants(self) -> None:
        """`variant`: addresses with parameters that do what such variants do: they give way to the address without them, say
        noindex where it does not, or show its words and links in another order (or the same, under parameters that order)."""
        sorted_alike = f"p.own_links = q.own_links AND p.own_links >= {LINKS_TO_SORT} AND p.bag = q.bag AND p.text_hash <> q.text_hash"
        self.con.execute(
            f"""CREATE TEMP TABLE variant AS SELECT a.id AS address, coalesce({sorted_alike}, false) AS sorts FROM address a
            JOIN address b ON b.origin = a.origin AND b.path = split_part(a.path, '?', 1) AND b.id <> a.id
            LEFT JOIN page p ON p.address = a.id LEFT JOIN page q ON q.address = b.id
            LEFT JOIN fold f ON f.address = a.id LEFT JOIN directed d ON d.address = a.id LEFT JOIN directed e ON e.address = b.id
            WHERE contains(a.path, '?') AND a.site AND ((f.how = 'canonical' AND f.target = b.id) OR ({sorted_alike})
                OR (d.noindex = {self.all_mask} AND coalesce(e.noindex, 0) = 0 AND q.address IS NOT NULL))"""
        )
        # Of little there is only one order, and of much the bag holds a part: what orders elsewhere on the host does here.
        if self._rows("SELECT 1 FROM variant WHERE sorts LIMIT 1"):
            names = "list_sort(regexp_extract_all(substr(a.path, strpos(a.path, '?')), '[?&;]([^=&;]+)', 1))"
            self.con.execute(
                f"""INSERT INTO variant SELECT a.id, false FROM address a JOIN page p ON p.address = a.id
                JOIN address b ON b.origin = a.origin AND b.path = split_part(a.path, '?', 1) AND b.id <> a.id
                JOIN page q ON q.address = b.id
                WHERE contains(a.path, '?') AND a.site AND a.id NOT IN (SELECT address FROM variant)
                AND (p.text_hash = q.text_hash OR (p.text_length = q.text_length AND p.own_links = q.own_links))
                AND (a.origin, {names}) IN
                    (SELECT a.origin, {names} FROM variant v JOIN address a ON a.id = v.address WHERE v.sorts)"""
            )

    def _searched(self) -> None:
        """`searched`: addresses to which a search form of the site leads: its place, with the parameter of its field."""
        self.con.execute(
            """CREATE TEMP TABLE searched AS SELECT DISTINCT a.id AS address FROM (
                SELECT DISTINCT split_part(what, ' ', 1) AS url, '&' || split_part(what, ' ', 2) || '=' AS field
                FROM slip WHERE kind = 'search' AND NOT contains(split_part(what, ' ', 2), '%')) s
            JOIN address a ON a.origin || split_part(a.path, '?', 1) = s.url
            WHERE a.site AND contains(a.path, '?') AND contains('&' || substr(a.path, strpos(a.path, '?') + 1), s.field)"""
        )

    # ---------------------------------------------------------------- the rows

    def _facts(self) -> None:
        """`fact`: one row per URL that says what each crawler can do with it; every check reads it."""
        all_mask = self.all_mask
        self.con.execute(
            f"""CREATE TEMP TABLE mention AS SELECT address, bool_or(listed) AS listed, bool_or(named) AS named FROM (
                SELECT address, true AS listed, false AS named FROM entry WHERE address IS NOT NULL
                UNION ALL SELECT c.target, false, NOT (regexp_matches(s.path, '{NUMBERED}') OR s.id IN (FROM paged))
                    FROM fold c JOIN address s ON s.id = c.address WHERE c.target <> c.address AND c.how = 'canonical'
                UNION ALL SELECT target, false, false FROM answer WHERE target IS NOT NULL
                UNION ALL SELECT refresh, false, false FROM page WHERE refresh IS NOT NULL
                UNION ALL SELECT leads_to, false, false FROM render WHERE leads_to IS NOT NULL
                UNION ALL SELECT target, false, false FROM canonical WHERE target IS NOT NULL
                UNION ALL SELECT target, false, false FROM alternate
                UNION ALL SELECT address, false, false FROM given WHERE why <> 'variant'
            ) GROUP BY address"""
        )
        self.con.execute(
            f"""CREATE TEMP TABLE fact AS
            SELECT *, {self.terms.want} AS want,
                CASE WHEN tail = '' THEN ({all_mask} & ~barred & noindex) ELSE 0 END::UBIGINT AS hidden,
                CASE WHEN tail = '' THEN ({all_mask} & ~barred & ~noindex) ELSE 0 END::UBIGINT AS open
            FROM (SELECT *, {self.terms.entry} AS entry, CASE WHEN status IS NOT NULL AND ended = '' AND (matches_missing
                OR kind = 'error') THEN 'broken' ELSE ended END AS tail
            FROM (SELECT *, {kind_sql("kind_rule")} AS kind
            FROM (SELECT *, {rule_sql()} AS kind_rule, {self.terms.closed} AS closed
            FROM (
                SELECT a.id, a.origin, a.path, a.site,
                    a.site AND (m.address IS NOT NULL OR i.target IS NOT NULL
                        OR (n.address IS NOT NULL AND v.address IS NULL)) AS known,
                    n.address IS NOT NULL AS read, n.status, n.error, n.media_type,
                    CASE WHEN n.address IS NULL THEN 'unread'
                        WHEN n.status IN (401, 403) THEN 'locked'
                        WHEN n.status IN (407, 408, 425, 429) OR n.status >= 500 OR n.status < 200 OR n.status IS NULL THEN 'broken'
                        WHEN n.status >= 400 THEN 'gone'
                        WHEN f.looped THEN 'broken'
                        WHEN f.target IS NOT NULL THEN 'folded'
                        WHEN n.status >= 300 THEN 'broken'
                        WHEN p.problem IS NOT NULL AND coalesce(d.noindex, 0) = 0 THEN 'unread'
                        ELSE '' END AS ended,
                    f.target AS folds_to, f.how AS fold_how, f.final AS folds_into,
                    coalesce(b.mask, 0)::UBIGINT AS barred,
                    coalesce(d.noindex, 0)::UBIGINT AS noindex, coalesce(d.nofollow, 0)::UBIGINT AS nofollow,
                    coalesce(m.listed, false) AS listed, coalesce(m.named, false) AS named,
                    a.id = {self.start} AS start,
                    coalesce(i.followed, 0) AS followed, coalesce(i.unfollowed, 0) AS unfollowed,
                    p.address IS NOT NULL AS html, p.types, {MARKS} AS marks,
                    coalesce(p.own_words, 0) AS own_words, coalesce(p.own_links, 0) AS own_links, p.text_hash,
                    w.address IS NOT NULL AS variant, sf.address IS NOT NULL AS searched, cp.address IS NOT NULL AS copied,
                    pg.address IS NOT NULL AS paged, g.address IS NOT NULL AS matches_missing, {telling_sql("a.path")} AS telling
                FROM address a
                LEFT JOIN answer n ON n.address = a.id LEFT JOIN page p ON p.address = a.id
                LEFT JOIN fold f ON f.address = a.id
                LEFT JOIN barred b ON b.address = a.id
                LEFT JOIN directed d ON d.address = a.id
                LEFT JOIN mention m ON m.address = a.id
                LEFT JOIN inlink i ON i.target = a.id
                LEFT JOIN given v ON v.address = a.id AND v.why = 'variant'
                LEFT JOIN (SELECT DISTINCT address FROM missing) g ON g.address = a.id
                LEFT JOIN variant w ON w.address = a.id LEFT JOIN searched sf ON sf.address = a.id
                LEFT JOIN seen se ON se.address = a.id LEFT JOIN copied cp ON cp.address = a.id LEFT JOIN paged pg ON pg.address = a.id
            ))))"""
        )

    def _many_wants(self) -> None:
        """The deciding entries where they are too many for one question."""
        if len(self.terms.intent.wants) > MOST_AT_ONCE:
            for entry in self.terms.entries(MOST_AT_ONCE):
                self.con.execute(f"UPDATE fact SET entry = {entry} WHERE entry IS NULL")
            self.con.execute(f"UPDATE fact SET want = {self.terms.want}")

    def _reasons(self) -> None:
        """`reason`: what decided each state that is not open, for the crawlers of its mask."""
        words = self._rows(
            "SELECT DISTINCT status, error FROM fact WHERE site AND tail IN ('locked', 'gone', 'broken') ORDER BY ALL"
        )
        self.con.execute("CREATE TEMP TABLE status_word (status SMALLINT, error VARCHAR, text VARCHAR)")
        told = [(status, error, status_text(status, error)) for status, error in words]
        self._insert_few("status_word", "SMALLINT VARCHAR VARCHAR", told)
        able = f"({self.all_mask} & ~f.barred)"
        page = "coalesce(n.file, f.origin || f.path)"
        self.con.execute(
            f"""CREATE TEMP TABLE reason AS
            SELECT address, mask::UBIGINT AS mask, (row_number() OVER (PARTITION BY address ORDER BY tier, kind, line, text) - 1)::UTINYINT
                AS rank, kind, file, line::INTEGER AS line, text
            FROM (
                SELECT b.address, b.mask, 0 AS tier, 'robots' AS kind, r.file, r.line, r.text
                FROM barred_by b JOIN rule r ON r.id = b.rule JOIN fact f ON f.id = b.address WHERE f.site
                UNION ALL
                SELECT f.id, {able}, 1, CASE WHEN f.ended = 'broken' AND f.fold_how IS NOT NULL THEN 'redirect' ELSE 'status' END,
                    {page}, NULL, CASE WHEN f.ended = 'broken' AND f.fold_how IS NOT NULL THEN coalesce('Location: ' || n.location, '')
                        || ' ({LOOPED})' WHEN f.ended = '' THEN w.text || ', {ERROR_PAGE}' ELSE w.text END
                FROM fact f JOIN answer n ON n.address = f.id
                JOIN status_word w ON w.status IS NOT DISTINCT FROM f.status AND w.error IS NOT DISTINCT FROM f.error
                WHERE f.site AND f.tail IN ('locked', 'gone', 'broken')
                UNION ALL
                SELECT f.id, {able}, 1, 'status', f.origin || f.path, NULL, p.problem
                FROM fact f JOIN page p ON p.address = f.id WHERE f.site AND f.tail = 'unread' AND p.problem IS NOT NULL
                UNION ALL
                SELECT f.id, {able}, 1, 'redirect', {page}, CASE WHEN f.fold_how = 'refresh' THEN p.refresh_line END,
                    CASE f.fold_how WHEN 'refresh' THEN p.refresh_text WHEN 'script' THEN 'a script leads to ' || t.origin || t.path
                        ELSE 'Location: ' || n.location END
                FROM fact f JOIN answer n ON n.address = f.id LEFT JOIN page p ON p.address = f.id JOIN address t ON t.id = f.folds_to
                WHERE f.site AND f.tail = 'folded' AND f.fold_how <> 'canonical'
                UNION ALL
                SELECT f.id, {able}, 1 + c.origin, 'canonical', {page}, c.line, c.text
                FROM fact f JOIN answer n ON n.address = f.id JOIN canonical c ON c.address = f.id
                WHERE f.site AND f.tail = 'folded' AND f.fold_how = 'canonical' AND c.fault IS NULL AND NOT c.in_body
                UNION ALL
                SELECT f.id, f.hidden & s.mask, 1 + d.origin, CASE WHEN d.origin = 1 THEN 'header' ELSE 'tag' END, {page}, d.line, d.text
                FROM fact f JOIN answer n ON n.address = f.id JOIN directive d ON d.address = f.id JOIN scope s ON s.name = d.scope
                WHERE f.site AND f.hidden & s.mask > 0 AND d.void IS NULL AND (d.noindex OR {self.terms.expired})
            ) WHERE mask > 0"""
        )


PATHS = "SELECT id, path FROM address WHERE origin = ? AND path <> ?"


def paths_of(con: Any, origin: str) -> tuple[npt.NDArray[np.int32], Paths]:
    """All addresses of an origin but robots.txt itself: their numbers, and their paths ready to be matched."""
    import indrel.base.arrow  # noqa: F401  # settles the array library before its first array
    from indrel.core.robots import Paths

    table = con.sql(PATHS, params=[origin, ALWAYS_ALLOWED]).to_arrow_table()
    return table.column("id").to_numpy(), Paths(table.column("path").combine_chunks())
