"""A draft robots.txt: the owner's file, changed as little as the wants need, proven on every known address.

robots.txt can keep crawlers from fetching, never a page from being listed. So the draft opens what should
be shown and what says noindex (or it is never read), and blocks nothing that should be hidden.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from indrel.base.errors import IndrelError, UsageError
from indrel.base.plain import code
from indrel.core.address import origin_of
from indrel.core.model import plural
from indrel.core.robots import Access, HostRobots, Rule, match_many, parse
from indrel.decide.predicates import NEEDS_NOINDEX
from indrel.decide.site import Site
from indrel.snapshot import Snapshot

MANY = 5
"""Wanted addresses from which on a line that blocks nothing else goes; for fewer it is left for what is not known."""

MOST_ROUNDS = 50
MOST_ALLOWS = 20
"""Allow lines beside one rule; where more were needed, the rule itself goes, and lines for what should stay barred take its place."""


@dataclass(frozen=True)
class RobotsDraft:
    """The proposed file. `reasons` say of each change why; `need_noindex` are addresses that robots.txt cannot hide."""

    before: bytes
    body: bytes
    reasons: tuple[str, ...]
    need_noindex: tuple[str, ...]

    @property
    def difference(self) -> list[str]:
        """The lines that change, as a unified difference."""
        old, new = (b.decode("utf-8", "replace").splitlines() for b in (self.before, self.body))
        return list(difflib.unified_diff(old, new, "robots.txt (now)", "robots.txt (draft)", lineterm=""))


@dataclass
class _Use:
    """What one line decides among the known addresses, for any audited crawler."""

    rule: Rule
    wanted: set[str] = field(default_factory=set)
    needed: set[str] = field(default_factory=set)
    kept_out: set[str] = field(default_factory=set)
    told_noindex: set[str] = field(default_factory=set)
    others: set[str] = field(default_factory=set)

    @property
    def stays(self) -> set[str]:
        """What it blocks and is to go on barring."""
        return self.kept_out | self.others


def origin_named(site: Site, host: str | None) -> str:
    """The origin of one of the site's hosts, by name or with its scheme; the main one without a name. Raises UsageError."""
    if host is None:
        return site.base_origin
    known = [o for o, one in site.robots.items() if one.known]
    named = [o for o in known if host.rstrip("/") in (o, o.partition("://")[2])]
    if not named:
        raise UsageError(f"--host {host}: its robots.txt was not read; there are: {', '.join(sorted(known)[:10])}")
    return max(named, key=lambda o: o.startswith("https:"))


def other_hosts(site: Site, origin: str) -> list[tuple[str, int]]:
    """Further hosts and schemes of the site whose robots.txt blocks wanted pages, and how many."""
    rows = site.rows(
        """SELECT origin, count(*) FROM fact WHERE known AND site AND want = 'show' AND barred > 0 AND origin <> ?
        GROUP BY origin ORDER BY count(*) DESC, origin""",
        [origin],
    )
    return [
        (one, n) for one, n in rows if (host := site.robots.get(one)) and host.known and host.access is Access.RULES
    ]


def draft(site: Site, with_headers: bool = False, origin: str | None = None) -> RobotsDraft:
    """Propose a robots.txt for one of the site's hosts, the main one if none is named. `with_headers`: what is stated to be hidden
    will say noindex.

    Raises UsageError where the present file is not known, IndrelError where a wanted address would still
    be barred or one that was open would be shut.
    """
    host = site.robots.get(origin or site.base_origin)
    if host is None or not host.known:
        raise UsageError("robots.txt of this site is not known: audit the site first")
    if host.access is Access.ALL_BARRED:
        raise UsageError("robots.txt cannot be read, so there is nothing to start from: let it return 200 or 404 first")
    before = host.body if host.access is Access.RULES else b""
    reasons: list[str] = []
    lines = [_Line(number, text) for number, text in enumerate(before.decode("utf-8-sig", "replace").splitlines(), 1)]
    bad = _bad_sitemaps(site, host)
    for number, what in bad:
        reasons.append(f"line {number} is removed: the sitemap that it names {what}")
    lines = [line for line in lines if line.number not in {number for number, _ in bad}]
    if len(bad) == len(host.file.sitemaps):
        lines += [_Line(None, text) for text in _own_sitemaps(site, host.origin, reasons)]
    known = {path for (path,) in site.rows("SELECT path FROM fact WHERE known AND origin = ?", [host.origin])}
    for _ in range(MOST_ROUNDS):  # a line that goes may uncover another that blocks the same
        now = HostRobots.given(host.origin, _joined(lines), host.where)
        uses = _uses(site, now, with_headers)
        shut = set().union(*(use.stays for use in uses))
        mended = [change for use in uses if (change := _mend(use, lines, reasons, shut, known - shut))]
        if not mended:
            break
        mended = _kept_apart(now, mended)
        lines = [new for number, line in enumerate(lines, 1) for new in _changed(number, line, mended)]
    had_none = {g.agent_lines for g in host.file.groups if not g.rules and not g.empty_rules}
    for group in reversed(parse(_joined(lines)).groups):
        if not group.rules and not group.empty_rules and group.agent_lines not in had_none:
            lines.insert(group.agent_lines[-1].number, _Line(None, "Disallow:"))  # else the group would look forgotten
    body = _joined(lines) if lines else b"User-agent: *\nDisallow:\n"
    need_noindex = [
        url
        for (url,) in site.rows(
            f"SELECT origin || path FROM fact WHERE {NEEDS_NOINDEX} AND origin = ? ORDER BY path",
            [host.origin],
        )
    ]
    prove(site, body, with_headers, host.origin)
    return RobotsDraft(before, body, tuple(reasons), tuple(need_noindex))


@dataclass(slots=True)
class _Line:
    """A line of the draft; `number` is its place in the owner's file, None where it is new."""

    number: int | None
    text: str
    eased: bool = False


_Change = tuple[int, bool, list[str]]
"""The place of a line in the draft, whether it stays, and the lines to set behind it."""


def _kept_apart(host: HostRobots, changes: list[_Change]) -> list[_Change]:
    """A group that loses all its rules gets an empty one: else its crawlers would be read as those of the group behind it."""
    gone = {place for place, stays, added in changes if not stays and not added}
    last = {max(r.line for r in g.rules) for g in host.file.groups if g.rules and {r.line for r in g.rules} <= gone}
    return [(place, stays, ["Disallow:"] if place in last else added) for place, stays, added in changes]


def _joined(lines: list[_Line]) -> bytes:
    return "".join(line.text + "\n" for line in lines).encode()


def _changed(number: int, line: _Line, changes: list[_Change]) -> list[_Line]:
    for place, stays, added in changes:
        if place == number:
            line.eased = True
            return [*([line] if stays else []), *(_Line(None, text, not stays) for text in added)]
    return [line]


_TOLD = "((read AND noindex > 0) OR (? AND entry IS NOT NULL AND want = 'hide'))"
"""Pages that say noindex, or will once the drafted headers are sent: they have to be read for it."""

_NEEDED = """SELECT DISTINCT r.target FROM resource r JOIN fact p ON p.id = r.source
    WHERE p.site AND p.open > 0 AND r.kind NOT IN ('image', 'media', 'frame')"""
"""What open pages cannot be shown without."""


def _uses(site: Site, host: HostRobots, with_headers: bool) -> list[_Use]:
    """The lines that bar some known address, with what they decide."""
    ids, paths = site.paths(host.origin)
    facts = {
        row[0]: row[1:]
        for row in site.rows(
            f"""SELECT id, path, want, {_TOLD}, known OR id IN (SELECT target FROM resource) FROM fact WHERE origin = ?""",
            [with_headers, host.origin],
        )
    }
    needed = {number for (number,) in site.rows(_NEEDED)}
    found: dict[int, _Use] = {}
    for crawler in site.crawlers:
        rules = host.ruleset(crawler).rules
        decided = match_many(rules, paths)
        for place in np.unique(decided).tolist():
            rule = rules[place] if place >= 0 else None
            if rule is None or rule.allow:
                continue
            use = found.setdefault(rule.line, _Use(rule))
            for number in ids[decided == place].tolist():
                path, want, told, known = facts[number]
                if want == "show":
                    use.wanted.add(path)
                elif number in needed:
                    use.needed.add(path)
                elif told:
                    use.told_noindex.add(path)
                elif known:
                    (use.kept_out if want in ("hide", "lock", "drop") else use.others).add(path)
    return [found[line] for line in sorted(found)]


def _mend(use: _Use, lines: list[_Line], reasons: list[str], shut: set[str], free: set[str]) -> _Change | None:
    """Open what a line blocks wrongly: with Allow lines beside it, or by removing it where nothing is lost.

    `shut` are the known addresses that any line is to go on barring, `free` the others: what is added holds none of
    the wrong ones, whatever other lines say of them.
    """
    opens, stays = use.wanted | use.needed | use.told_noindex, use.stays
    if not opens:
        return None
    rule, line = use.rule, lines[use.rule.line - 1]
    why = []
    if use.wanted:
        why.append(f"it blocks {plural(len(use.wanted), 'wanted page')} such as {min(use.wanted)}")
    if use.needed:
        why.append(f"it blocks {plural(len(use.needed), 'file')} that open pages need, such as {min(use.needed)}")
    if use.told_noindex:
        pages = plural(len(use.told_noindex), "page")
        why.append(f"it keeps crawlers from reading the noindex of {pages}, such as {min(use.told_noindex)}")
    said = " and ".join(why)
    allows = None if line.eased else _fewest(opens, shut - opens, rule.pattern.length)
    place = f"line {line.number}" if line.number else "a line"
    if allows is None or (not stays and (use.told_noindex or len(use.wanted | use.needed) >= MANY)):
        bars = _fewest(stays, free | opens, 0)
        if bars is None:
            raise IndrelError(
                f"no draft was made: {place}, {code(rule.text)}, blocks wanted and unwanted pages in so many places that more than "
                f"{MOST_ALLOWS} lines would be needed instead, for {plural(len(opens), 'URL')} such as "
                f"{min(opens)} and {len(stays):,} such as {min(stays)}"
            )
        instead = f" and replaced by {plural(len(bars), 'narrower line')}" if bars else ""
        reasons.append(f"{place}, {code(rule.text)}, is removed{instead}: {said}")
        return rule.line, False, [f"Disallow: {one}" for one in bars]
    reasons.append(f"{place}, {code(rule.text)}, gets {plural(len(allows), 'Allow line')}: {said}")
    return rule.line, True, [f"Allow: {one}" for one in allows]


def _fewest(paths: set[str], others: set[str], longer_than: int) -> list[str] | None:
    """The fewest patterns, each longer than a rule, that hold some addresses and none of the others; None: too many."""
    chosen: list[str] = []
    for path in sorted(paths, key=lambda p: (len(p), p)):
        if any(_holds(one, path) for one in chosen):
            continue
        chosen.append(_widest(path, others, longer_than))
        if len(chosen) > MOST_ALLOWS:
            return None
    return chosen


def _holds(pattern: str, path: str) -> bool:
    safe = _literal(path)
    return safe == pattern[:-1] if pattern.endswith("$") else safe.startswith(pattern)


def _literal(path: str) -> str:
    """A path as a pattern that means just it: the signs that patterns know are escaped (RFC 9309 section 2.2.3)."""
    return path.replace("*", "%2A").replace("$", "%24")


def _widest(path: str, others: Iterable[str], longer_than: int) -> str:
    """The shortest folder of a path that beats a rule and holds none of the other addresses; else the path."""
    pieces = path.partition("?")[0].split("/")
    for count in range(2, len(pieces)):
        folder = "/".join(pieces[:count]) + "/"
        if len(folder) > longer_than and not any(o.startswith(folder) for o in others):
            return _literal(folder)
    safe = _literal(path)
    begins = any(o.startswith(path) for o in others)
    return safe + "$" if begins or len(safe) <= longer_than else safe


def _bad_sitemaps(site: Site, host: HostRobots) -> list[tuple[int, str]]:
    """Sitemap lines whose file is no sitemap, with what it is instead."""
    return site.rows(
        """SELECT announced_line, CASE WHEN status IS NULL THEN 'does not respond' WHEN status <> 200 THEN 'returns ' || status
            WHEN kind = 'html' THEN 'is an HTML page' ELSE 'cannot be read' END
        FROM sitemap WHERE via = 'robots' AND announced_by = ? AND announced_line IS NOT NULL
        AND (status IS DISTINCT FROM 200 OR kind IN ('html', 'unknown') OR (error IS NOT NULL AND entries = 0))
        ORDER BY announced_line""",
        [host.origin],
    )


def _own_sitemaps(site: Site, origin: str, reasons: list[str]) -> list[str]:
    """Sitemap lines for what was found at the usual addresses, for a file that names none."""
    urls = [
        u
        for (u,) in site.rows(
            "SELECT url FROM sitemap WHERE via = 'usual' AND kind IN ('urlset', 'index', 'text') AND error IS NULL ORDER BY url"
        )
        if origin_of(u) == origin
    ]
    reasons += [f"a Sitemap line for {url} is added" for url in urls]
    return ["", *(f"Sitemap: {url}" for url in urls)] if urls else []


def prove(site: Site, body: bytes, with_headers: bool, origin: str) -> None:
    """Decide every known address of a host for every crawler under a draft: none that is wanted may be barred, none newly shut, and
    nothing opened but what is wanted, says noindex, or is needed to show a wanted page.

    Raises IndrelError, naming an address, where the draft fails.
    """
    parse(body)
    after = Site(Snapshot(site.snapshot.path), site.crawlers, {origin: (body, "the draft")}, site.intent)
    try:
        now = {
            number: (url, barred, want, free)
            for number, url, barred, want, free in after.rows(
                f"""SELECT id, origin || path, barred, want, want = 'show' OR {_TOLD} OR id IN ({_NEEDED}) FROM fact
                WHERE known AND origin = ? ORDER BY path""",
                [with_headers, origin],
            )
        }
        old = dict(site.rows("SELECT id, barred FROM fact WHERE known AND origin = ?", [origin]))
    finally:
        after.close()
    for number, (url, barred, want, free) in now.items():
        if want == "show" and barred:
            raise IndrelError(f"no draft was made: {url} is wanted, but would still be blocked")
        if barred & ~old.get(number, 0):
            raise IndrelError(f"no draft was made: {url} can be fetched now, but would be blocked")
        if old.get(number, 0) & ~barred and not free:
            raise IndrelError(f"no draft was made: {url} is blocked now and unwanted, but would be unblocked")
