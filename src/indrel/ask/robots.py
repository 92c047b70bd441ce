"""robots.txt on its own: read from anywhere, checked, matched, compared, shown crawler by crawler."""

from __future__ import annotations

import sys
import tempfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from indrel.arrow import arrays, pa
from indrel.checks import checks, judge
from indrel.checks.topics.robots_reach import RuleUse, rule_uses
from indrel.core.address import normalise, origin_of, split
from indrel.core.crawlers import Crawler
from indrel.core.model import Finding, Skipped
from indrel.core.robots import ALWAYS_ALLOWED, Access, Paths, RobotsFile, Rule, Ruleset, Verdict, match_many
from indrel.core.robots.single import RESERVED
from indrel.decide.matrix import MatrixRow, matrix_of
from indrel.decide.site import UNKNOWN_HOST, Site
from indrel.errors import InputError
from indrel.gather.recorder import now
from indrel.snapshot import Snapshot, SnapshotWriter
from indrel.sources.options import GatherOptions

NOWHERE = "https://robots.invalid"
"""The origin of a file that is not known to stand anywhere."""

CHUNK = 20_000
NOT_OF_THE_FILE = ("barred-unread", "listed-barred", "barred-noindex", "barred-canonical")
TOPICS = ("robots", "robots_lines", "robots_reach")


@dataclass(frozen=True)
class Loaded:
    """A robots.txt as it was had. `located` says whether its origin is known."""

    origin: str
    where: str
    body: bytes
    located: bool = False
    status: int | None = 200
    error: str | None = None
    media_type: str = "text/plain"
    hops: tuple[str, ...] = ()
    final: str = ""

    @cached_property
    def verdict(self) -> Verdict:
        """What holds on its host."""
        return Verdict.of(self.status, len(self.hops), self.body)

    @property
    def access(self) -> Access:
        return self.verdict.access

    @property
    def file(self) -> RobotsFile:
        return self.verdict.file

    def ruleset(self, one: Crawler) -> Ruleset:
        return self.verdict.ruleset(one)


def load(named: str, options: GatherOptions) -> Loaded:
    """A file, `-` (standard input) or an address; of a host, its /robots.txt. Raises InputError."""
    if named == "-":
        return _of_bytes(sys.stdin.buffer.read(), "standard input")
    if named.startswith(("http://", "https://")):
        return _fetch(named, options)
    try:
        return _of_bytes(Path(named).read_bytes(), named)
    except OSError as error:
        raise InputError(
            f"{named} cannot be read: {error.strerror}; name a file, an address or - for standard input"
        ) from error


def _of_bytes(body: bytes, where: str) -> Loaded:
    return Loaded(NOWHERE, where, body, final=f"{NOWHERE}/robots.txt")


def _fetch(named: str, options: GatherOptions) -> Loaded:
    import asyncio

    from indrel.core.page.headers import content_type
    from indrel.sources.fetch import ROBOTS_LIMIT, Fetcher, follow_robots

    url = normalise(named)
    if url is None:
        raise InputError(f"{named} is not an address")
    if split(url).path == "/":
        url += "robots.txt"

    async def ask() -> Loaded:
        async with Fetcher(options, [origin_of(url)]) as fetcher:
            hops, answer = await follow_robots(fetcher, url, ROBOTS_LIMIT)
        if answer.status is None:
            raise InputError(f"{url} cannot be read: {answer.error}")
        media, _ = content_type(answer.header("content-type"))
        body = answer.body if 200 <= answer.status < 300 else b""
        return Loaded(
            origin_of(url),
            answer.url,
            body,
            True,
            answer.status,
            answer.error,
            media,
            tuple(hops),
            answer.url,
        )

    return asyncio.run(ask())


# ---------------------------------------------------------------- check


@dataclass(frozen=True)
class Checked:
    """What the checks said of one file, and, against a snapshot, what each of its rules does there."""

    findings: list[Finding]
    crashed: list[Skipped]
    uses: list[RuleUse]

    def as_json(self) -> dict[str, object]:
        found: dict[str, object] = {"findings": [f.as_json() for f in self.findings]}
        if self.uses:
            found["rules"] = [
                {
                    "line": u.rule.line, "text": u.rule.text, "group": u.group, "decides": u.decides, "wanted": u.wanted,
                    "loses": u.loses,
                }
                for u in self.uses
            ]  # fmt: skip
        return found


def check(loaded: Loaded, crawlers: Sequence[Crawler], snapshot: Path | None) -> Checked:
    """The checks of robots.txt on one file; with a snapshot also those that need known addresses."""
    only = [c.id for c in checks().values() if c.topic in TOPICS and c.id not in NOT_OF_THE_FILE]
    with tempfile.TemporaryDirectory() as folder:
        if snapshot is None:
            path = Path(folder, "robots.indrel")
            _lone_snapshot(path, loaded)
            site = Site(Snapshot(path), crawlers)
        else:
            site = in_place(snapshot, crawlers, loaded)
        try:
            verdict = judge(site, only)
            uses = rule_uses(site, site.robots[site.base_origin]) if snapshot else []
        finally:
            site.close()
    return Checked(list(verdict.findings), list(verdict.crashed), uses)


def _lone_snapshot(path: Path, loaded: Loaded, urls: Iterable[str] = ()) -> None:
    kind = "list" if urls else "robots"
    with SnapshotWriter(path) as writer:
        writer.set_meta(
            source={"kind": kind, "location": loaded.where}, base=loaded.origin + "/", started=now(), complete=True,
            hosts=[split(loaded.origin + "/").host], located=loaded.located,
        )  # fmt: skip
        writer.add(
            "robots",
            [
                (
                    loaded.origin, loaded.status, loaded.error, loaded.media_type, list(loaded.hops), loaded.final,
                    loaded.body, False, "site", True, None if loaded.located else loaded.where,
                )
            ],
        )  # fmt: skip
        for number, url in enumerate(dict.fromkeys(urls)):
            writer.add("address", [(number, loaded.origin, split(url).path, True)])
            writer.add("given", [(number, "also")])


def in_place(snapshot: Path, crawlers: Sequence[Crawler], loaded: Loaded | None) -> Site:
    """A snapshot decided as if `loaded` were the robots.txt of its main host."""
    opened = Snapshot(snapshot)
    origin = origin_of(opened.meta["base"])
    return Site(opened, crawlers, {origin: (loaded.body, loaded.where)} if loaded else None)


# ---------------------------------------------------------------- match


@dataclass(frozen=True, slots=True)
class Match:
    """What decides one address for one crawler."""

    url: str
    crawler: str
    allowed: bool
    rule: Rule | None
    group: str | None
    note: str | None = None
    """Where the standard's letter decides otherwise than engines do: how."""

    def as_json(self) -> dict[str, object]:
        found: dict[str, object] = {
            "url": self.url,
            "crawler": self.crawler,
            "allowed": self.allowed,
            "rule": self.rule.label if self.rule else None,
            "line": self.rule.line if self.rule else None,
            "group": self.group,
        }
        return {**found, "note": self.note} if self.note else found


def to_url(text: str, origin: str) -> str | None:
    """An address as a user writes it: whole, without scheme, or a path."""
    text = text.strip()
    if text.startswith("/") and not text.startswith("//"):
        return normalise(origin + text)
    return normalise(text if "://" in text else "https://" + text.lstrip("/"))


def match(loaded: Loaded, urls: Iterable[str], crawlers: Sequence[Crawler]) -> Iterator[list[Match]]:
    """Per normalised address one row a crawler, in order; streams in bounded memory."""
    rulesets = [loaded.ruleset(c) for c in crawlers]
    chunk: list[str] = []
    for url in urls:
        chunk.append(url)
        if len(chunk) == CHUNK:
            yield from _match_chunk(loaded, chunk, crawlers, rulesets)
            chunk = []
    yield from _match_chunk(loaded, chunk, crawlers, rulesets)


def _match_chunk(
    loaded: Loaded, urls: list[str], crawlers: Sequence[Crawler], rulesets: list[Ruleset]
) -> Iterator[list[Match]]:
    names = [split(u).path for u in urls]
    paths = Paths(names)
    decided: dict[object, list[int]] = {}
    for rules in rulesets:
        if rules.key not in decided:
            decided[rules.key] = match_many(rules.rules, paths).tolist()
    shut = loaded.access is Access.ALL_BARRED
    escaped = any(RESERVED.search(r.path.upper()) for rules in rulesets for r in rules.rules)
    for i, (url, path) in enumerate(zip(urls, names, strict=True)):
        row = []
        for one, rules in zip(crawlers, rulesets, strict=True):
            index = decided[rules.key][i]
            rule = rules.rules[index] if index >= 0 and path != ALWAYS_ALLOWED else None
            allowed = path == ALWAYS_ALLOWED or (rule.allow if rule else not shut)
            note = loaded.verdict.by_letter(path, one) if "%" in path or escaped else None
            row.append(Match(url, one.token, allowed, rule, rules.group, note))
        yield row


# ---------------------------------------------------------------- impact


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


@dataclass(frozen=True)
class Impact:
    """What a new robots.txt does: addresses that change, wanted ones first, and what each changed line does."""

    changes: list[Change]
    lines: list[dict[str, object]]
    known: int
    notes: tuple[str, ...] = ()
    """Addresses of which the standard's letter would decide otherwise than engines do."""

    @property
    def bars_wanted(self) -> bool:
        return any(c.wanted and c.after == "barred" for c in self.changes)

    def as_json(self) -> dict[str, object]:
        return {
            "changes": [c.as_json() for c in self.changes], "lines": self.lines, "bars_wanted": self.bars_wanted,
            "notes": list(self.notes),
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
    return Impact(merged, _changed_lines(before, after, merged), len(old), _notes(after))


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
        for crawler in site.crawlers:
            note = host.verdict.by_letter(path, crawler)
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


def _changed_lines(before: Site, after: Site, changes: list[Change]) -> list[dict[str, object]]:
    """Rules that only one of the files has, with the number of addresses that each of them turns."""
    origin = before.base_origin
    files = [(s.robots[origin].file if origin in s.robots else UNKNOWN_HOST.file) for s in (before, after)]
    labels = [Counter((a, r.label) for g in f.groups for a in g.agents for r in g.rules) for f in files]
    turned = Counter((c.after == "barred", c.line) for c in changes)
    rows: list[dict[str, object]] = []
    for kind, file, other, bars in (("added", files[1], labels[0], True), ("removed", files[0], labels[1], False)):
        for group in file.groups:
            for rule in group.rules:
                if any((a, rule.label) not in other for a in group.agents):
                    rows.append({"change": kind, "line": rule.line, "text": rule.text, "group": ", ".join(group.agents),
                                 "turns": turned[bars, rule.line]})  # fmt: skip
    return rows


def of_list(loaded: Loaded, urls: Sequence[str], crawlers: Sequence[Crawler], folder: Path) -> Site:
    """A site that is a list of addresses under one robots.txt; its temporary snapshot is kept in `folder`."""
    path = folder / "list.indrel"
    if not path.exists():
        _lone_snapshot(path, loaded, urls)
    return Site(Snapshot(path), crawlers, {loaded.origin: (loaded.body, loaded.where)})


# ---------------------------------------------------------------- matrix


def matrix(loaded: Loaded, site: Site | None) -> list[MatrixRow]:
    """Who may read what under a robots.txt, by the addresses of a site if one is given."""
    return matrix_of(loaded.verdict, site)
