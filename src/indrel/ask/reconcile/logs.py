"""A server's log against the site: what crawlers ask for, streamed in bounded memory."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from indrel.ask.reconcile.log_lines import LOG_LINE, from_json
from indrel.ask.reconcile.tables import BROKEN, opened
from indrel.base.arrow import pa
from indrel.base.errors import InputError
from indrel.base.sqltext import quoted, quoted_list
from indrel.core.address import is_ip, normalise, origin_of, split
from indrel.core.crawlers import table
from indrel.core.robots import ALWAYS_ALLOWED, Access, match_many
from indrel.decide.site import Site

CHUNK = 2 << 20
FLUSH = 50_000
"""Different pairs of crawler and address that are counted before they are written down."""

MEMORY = "160MB"
"""What the database may hold while it counts: months of requests go to the disk."""

MOST_SHOWN = 2_000
FIRST = 3
"""Requests at the beginning of a log by which it is known again in another."""


@dataclass(frozen=True)
class LogRead:
    """What a log tells. Counts are requests, but `barred_urls` and `never_fetched`: they count all URLs, of which the lists
    hold the first."""

    lines: int
    unreadable: int
    crawlers: dict[str, int]
    fetched: list[dict[str, object]]
    barred: list[dict[str, object]]
    barred_urls: int
    never: list[str]
    never_fetched: int
    unknown: dict[str, list[str]]
    unknown_counts: dict[str, int]
    impostors: list[dict[str, object]]
    has_hosts: bool

    def as_json(self) -> dict[str, object]:
        return dict(vars(self))


def read(site: Site, paths: Sequence[Path]) -> LogRead:
    """Set logs in Common or Combined format, or of JSON lines (plain or gzip), against a snapshot; several are one log.

    Raises InputError for one that cannot be read, and for two that have the same requests.
    """
    total = unreadable = 0
    begins = _beginnings(paths) if len(paths) > 1 else {}
    has_hosts = False
    site.con.execute("CREATE OR REPLACE TEMP TABLE asked (crawler VARCHAR, path VARCHAR, status SMALLINT, n BIGINT)")
    counts: Counter[tuple[str, bytes, bytes]] = Counter()
    strangers: Counter[tuple[str, str]] = Counter()
    known: dict[bytes, str] = {}
    who = _Names()
    for path, lines, matches in ((one, *chunk) for one in paths for chunk in _chunks(one)):
        _refuse_twice(path, matches, begins)
        total += lines
        unreadable += lines - len(matches)
        for host, _, target, status, agent in matches:
            token = known.get(agent)
            if token is None:
                token = known[agent] = who.token(agent)
                if len(known) > FLUSH:
                    known.clear()
            if token:
                name = host.decode("latin-1")
                if name and not (host[:1].isdigit() or b":" in host) and not is_ip(name):
                    has_hosts = True
                    if who.is_stranger(token, name):
                        strangers[token, name] += 1
                        continue  # no visit of the crawler whose name it takes
                counts[token, target, status] += 1
        if len(counts) > FLUSH:
            _flush(site, counts)
    _flush(site, counts)
    if total == unreadable:
        raise InputError(
            f"{paths[0]} is a log in a format that cannot be read: give Common or Combined Log Format, or JSON lines"
        )
    crawlers = site.rows("SELECT crawler, sum(n)::BIGINT AS n FROM asked GROUP BY crawler ORDER BY n DESC, crawler")
    impostors: list[dict[str, object]] = [
        {"crawler": t, "host": h, "requests": n} for (t, h), n in strangers.most_common(MOST_SHOWN)
    ]
    _join(site)
    unknown, unknown_counts = _unknown(site)
    return LogRead(
        total, unreadable, dict(crawlers), _fetched(site), *_barred(site), *_never(site), unknown, unknown_counts, impostors, has_hosts
    )  # fmt: skip


def _beginnings(paths: Sequence[Path]) -> dict[tuple[bytes, ...], tuple[Path, list[tuple[bytes, ...]]]]:
    """The first requests of each file by the very first one. Raises InputError for files that begin alike."""
    found: dict[tuple[bytes, ...], tuple[Path, list[tuple[bytes, ...]]]] = {}
    for path in paths:
        first = next((matches for _, matches in _chunks(path) if matches), [])[:FIRST]
        if first and first[0] in found:
            raise _twice(path, found[first[0]][0])
        if first:
            found[first[0]] = path, first
    return found


def _refuse_twice(
    path: Path, matches: list[tuple[bytes, ...]], begins: Mapping[tuple[bytes, ...], tuple[Path, list[tuple[bytes, ...]]]]
) -> None:  # fmt: skip
    """Raise InputError if another file's first requests are among these: two rotations that overlap would count twice."""
    for place in (n for n, match in enumerate(matches) if match in begins) if begins else ():
        other, first = begins[matches[place]]
        seen = matches[place : place + len(first)]
        if other != path and seen == first[: len(seen)]:
            raise _twice(path, other)


def _twice(one: Path, other: Path) -> InputError:
    return InputError(f"{one} and {other} have the same requests: give each rotation of a log once")


class _Names:
    """Which crawler a user agent names, and which hosts are its own."""

    def __init__(self) -> None:
        tokens = sorted((t for t in table() if t != "*"), key=len, reverse=True)
        self._pattern = re.compile(
            r"(?<![a-z])(" + "|".join(re.escape(t) for t in tokens) + r")(?![a-z])", re.IGNORECASE
        )
        self._hosts = {t: c.hosts for t, c in table().items() if c.hosts}

    def token(self, agent: bytes) -> str:
        found = self._pattern.search(agent.decode("latin-1"))
        return found[1].lower() if found else ""

    def is_stranger(self, token: str, host: str) -> bool:
        """Whether a host name is known not to be the crawler's."""
        own = self._hosts.get(token)
        name = host.rstrip(".").lower()
        return own is not None and not any(name == h or name.endswith("." + h) for h in own)


def _chunks(path: Path) -> Iterator[tuple[int, list[tuple[bytes, ...]]]]:
    """Lines of the file by the million: how many there are, and the ones that can be read, taken apart."""
    rest = b""
    with opened(path) as file:
        while True:
            try:
                data = file.read(CHUNK)
            except (*BROKEN, OSError) as error:
                raise InputError(f"{path} breaks off or is packed wrongly ({error})") from error
            if not data:
                break
            data = rest + data
            cut = data.rfind(b"\n") + 1
            rest, data = data[cut:], data[:cut]
            if len(rest) > CHUNK:
                rest = b""  # a line without end is no log's
            yield data.count(b"\n"), _taken_apart(data)
    if rest.strip():
        yield 1, _taken_apart(rest)


def _taken_apart(data: bytes) -> list[tuple[bytes, ...]]:
    """The lines that can be read: host, time, address, status, user agent."""
    return from_json(data) if data.lstrip()[:1] == b"{" else LOG_LINE.findall(data)


def _flush(site: Site, counts: Counter[tuple[str, bytes, bytes]]) -> None:
    """Write counts down, addresses normalised."""
    if not counts:
        return
    crawlers, paths, statuses, numbers = [], [], [], []
    here = site.base_origin.partition("://")[2]  # an absolute-form request may be for another host
    for (crawler, target, status), n in counts.items():
        text = target.decode("utf-8", "replace")
        url = normalise(text if "://" in text[:8] else text if text.startswith("/") else "/" + text, site.base)
        if url is not None and origin_of(url).partition("://")[2] == here:
            crawlers.append(crawler)
            paths.append(split(url).path)
            statuses.append(int(status))
            numbers.append(n)
    site.con.register(
        "incoming",
        pa.table(
            {
                "crawler": pa.array(crawlers, pa.string()), "path": pa.array(paths, pa.string()),
                "status": pa.array(statuses, pa.int16()), "n": pa.array(numbers, pa.int64()),
            }
        ),
    )  # fmt: skip
    site.con.execute("INSERT INTO asked SELECT * FROM incoming")
    site.con.unregister("incoming")
    counts.clear()


def _join(site: Site) -> None:
    """`hit`: what was asked for, and what is known of it on the main host."""
    site.con.execute(
        f"""CREATE OR REPLACE TEMP TABLE hit AS
        SELECT a.crawler, a.path, a.status, a.n, f.id, f.barred, {site.state_sql(len(site.crawlers) - 1)} AS state,
            {site.sections.sql_of("base")} AS section
        FROM (SELECT crawler, path, status, sum(n)::BIGINT AS n, {quoted(site.base_origin)} AS base FROM asked GROUP BY ALL) a
        LEFT JOIN (SELECT * EXCLUDE (path, status), path AS known_path FROM fact WHERE known AND origin = {quoted(site.base_origin)}) f
            ON f.known_path = a.path"""
    )


def _fetched(site: Site) -> list[dict[str, object]]:
    keys = ("section", "state", "status", "requests", "addresses")
    return [
        dict(zip(keys, row, strict=True))
        for row in site.rows(
            """SELECT section, coalesce(CASE WHEN id IS NOT NULL THEN state END, 'unknown') AS state, status, sum(n)::BIGINT AS n,
            count(DISTINCT path) FROM hit WHERE path <> '/robots.txt' GROUP BY ALL ORDER BY n DESC, section, state, status LIMIT 200"""
        )
    ]


def _barred(site: Site) -> tuple[list[dict[str, object]], int]:
    """Requests for what robots.txt blocks for the crawler that made them, by its own group, and of how many URLs."""
    host = site.robots.get(site.base_origin)
    if host is None or not host.known or host.access is Access.ALL_ALLOWED:
        return [], 0
    known, tables = table(), []
    for (crawler,) in site.rows("SELECT DISTINCT crawler FROM hit ORDER BY crawler"):
        rules = host.verdict.ruleset(known[crawler]).rules
        is_allowed = np.array([rule.allow for rule in rules] + [True])  # the last: no rule matches
        asked = "SELECT path, sum(n)::BIGINT AS n FROM hit WHERE crawler = ? AND path <> ? GROUP BY path"
        reader: Any = site.con.sql(asked, params=[crawler, ALWAYS_ALLOWED]).to_arrow_reader(FLUSH)
        for batch in reader:
            if host.access is Access.RULES:
                blocked = ~is_allowed[match_many(rules, batch.column(0).cast(pa.string()))]
                batch = batch.filter(pa.array(blocked))
            names = pa.array([crawler] * len(batch), pa.string())
            tables.append(pa.table({"crawler": names, "path": batch.column(0), "n": batch.column(1)}))
    if not tables:
        return [], 0
    site.con.register("incoming", pa.concat_tables(tables))
    rows = site.rows(f"SELECT path, crawler, n FROM incoming ORDER BY n DESC, crawler, path LIMIT {MOST_SHOWN}")
    urls = site.one("SELECT count(DISTINCT path) FROM incoming")
    site.con.unregister("incoming")
    return [{"url": site.base_origin + path, "crawler": crawler, "requests": n} for path, crawler, n in rows], int(urls)


def _never(site: Site) -> tuple[list[str], int]:
    """Wanted and open URLs that no search crawler requested: the first ones, and how many there are."""
    search = quoted_list(t for t, c in table().items() if c.purpose == "search")
    found = site.rows(
        f"""SELECT origin || path, count(*) OVER () FROM fact WHERE known AND want = 'show' AND open > 0 AND origin = ?
        AND path NOT IN (SELECT path FROM asked WHERE crawler IN ({search})) ORDER BY path LIMIT {MOST_SHOWN}""",
        [site.base_origin],
    )
    return [url for url, _ in found], found[0][1] if found else 0


def _unknown(site: Site) -> tuple[dict[str, list[str]], dict[str, int]]:
    """What answered and is not known to the audit, by section, and how many there are of each."""
    found: dict[str, list[str]] = {}
    unknown = "FROM hit WHERE id IS NULL AND status < 400 AND path <> '/robots.txt'"
    counts = dict(site.rows(f"SELECT section, count(DISTINCT path) {unknown} GROUP BY section ORDER BY section"))
    for section, url in site.rows(
        f"""SELECT section, ? || path {unknown}
        GROUP BY section, path ORDER BY section, sum(n) DESC, path LIMIT {MOST_SHOWN}""",
        [site.base_origin],
    ):
        found.setdefault(section, []).append(url)
    return found, counts
