"""robots.txt line by line: what needs no crawl to be told."""

from __future__ import annotations

import re
from collections.abc import Iterator

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINE_GOES, ROBOTS, Change, line_with, to
from indrel.checks.evidence import about, robots_line
from indrel.checks.topics.robots import UNSUPPORTED, is_page, site_robots
from indrel.core.address import normalise, site_key, split
from indrel.core.answers import status_text
from indrel.core.crawlers import STAR
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.core.robots import Access, HostRobots
from indrel.core.robots.access import MAX_HOPS
from indrel.core.robots.compare import left_out, never_wins
from indrel.core.robots.file import MAX_OCTETS, READ_BYTES, Line, Rule
from indrel.decide.site import Site

READERS = {
    "crawl-delay": "some engines read it (Bingbot, Slurp), the largest does not",
    "noindex": "no engine reads it any more, so nothing is hidden by it",
    "nofollow": "no engine reads it",
    "host": "no engine reads it any more",
    "clean-param": "one engine reads it (Yandex)",
    "request-rate": "few crawlers read it (SeznamBot)",
    "visit-time": "few crawlers read it",
}
PLACEHOLDERS = ("example.com", "example.net", "example.org", "localhost")
_REGEX = re.compile(r"\.\*|\.\+|\[[^\]]*\]|\(.*[|*].*\)|\(\?|^\^|\\[dws.]|\|")
# `/wp-admin` is the same on every site of its system, which writes that rule itself: it tells nothing
_SECRET = re.compile(
    r"(?:^|[/_.-])(?:(?<!/wp-)admin|administrator|backups?|bak|sql|dumps?|private|personal|secrets?|internal|confidential|intranet|"
    r"invit(?:e|es|ation|ations)|(?<!lost[_-])(?<!forgot[_-])(?<!reset[_-])passwords?(?![/_-](?:reset|new|edit|forgot|recovery))|passwd|staff|tokens?|env|git)(?=$|[/_.*$?-])",
    re.IGNORECASE,
)


def readable(site: Site) -> Iterator[HostRobots]:
    """robots.txt of the site's hosts that hold rules."""
    for host in site_robots(site):
        if host.access is Access.RULES and not is_page(host):
            yield host


def rule_lines(host: HostRobots) -> Iterator[tuple[Line, Rule | None]]:
    """The allow and disallow lines, with their rules where they have a path."""
    rules = {r.line: r for g in host.file.groups for r in g.rules} | {r.line: r for r in host.file.orphans}
    for line in host.file.lines:
        if line.field in ("allow", "disallow"):
            yield line, rules.get(line.number)


def crawlers_of(site: Site, agents: tuple[str, ...]) -> int:
    """The audited crawlers that a group for `agents` holds for, judged by their tokens alone."""
    mask = 0
    for i, crawler in enumerate(site.crawlers):
        if any(a in crawler.robots_tokens for a in agents):
            mask |= 1 << i
    return mask or site.all_mask


@check("robots-redirects", CheckClass.FLAW, Severity.ASK, follows=Follows.NOTHING, needs=(Need.LIVE,))
def robots_redirects(site: Site) -> Iterator[Hit]:
    """robots.txt is answered by a redirect.

    Why: The rules hold for the host that was asked; some crawlers follow few redirects, after more than five there are none.
    Mend: Answer /robots.txt on each host itself, with status 200.
    Rests on: RFC 9309 section 2.3.1.2: at least five redirects are followed, also across hosts.
    Evidence: The addresses on the way and what the last one answered.
    """
    for host in site_robots(site):
        if host.hops:
            shown = [Evidence("status", hop, None, "redirect") for hop in host.hops]
            shown.append(Evidence("status", host.final, None, status_text(host.status, host.error)))
            many = len(host.hops) > MAX_HOPS
            abroad = split(host.final).host != split(host.url).host
            end = (
                "no rules hold"
                if many
                else f"the rules of {host.final} hold"
                if abroad
                else f"answered by {host.final}"
            )
            message = f"robots.txt redirects {plural(len(host.hops), 'time')}: {end}"
            yield Hit(host.url, site.all_mask, message, tuple(shown), severity=Severity.FIX if many else None)


@check("robots-too-long", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_too_long(site: Site) -> Iterator[Hit]:
    """robots.txt goes on beyond the octets that crawlers read.

    Why: Lines beyond the first 500 KiB have no effect; the line that is cut through is dropped as well.
    Mend: Shorten the file: wildcards and folders take the place of long lists.
    Rests on: RFC 9309 section 2.5: at least 500 KiB must be parsed.
    Evidence: The first line that has no effect.
    """
    for host in readable(site):
        if host.file.beyond:
            last = host.file.lines[-1].number if host.file.lines else 0
            line = Evidence("robots", host.where, last + 1, f"{plural(host.file.beyond, 'line')} without effect")
            least = "at least " if host.file.size >= READ_BYTES else ""
            lines = plural(host.file.beyond, "line")
            message = f"The file has {least}{host.file.size:,} bytes: {least}{lines} beyond the first {MAX_OCTETS:,} have no effect."
            yield Hit(host.url, site.all_mask, message, (line,))


@check("robots-encoding", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_encoding(site: Site) -> Iterator[Hit]:
    """robots.txt is not UTF-8 text, or not served as text/plain.

    Why: Octets that are not UTF-8 match nothing that was meant; in UTF-16 no line can be read at all.
    Mend: Save the file as UTF-8 without NUL octets, and serve it as text/plain.
    Rests on: RFC 9309 section 2.3: UTF-8, media type text/plain.
    Evidence: The line that holds the first such octet, or the media type.
    """
    for host in readable(site):
        body = host.body
        if body.startswith((b"\xff\xfe", b"\xfe\xff")):
            what, line = "it is UTF-16: no line can be read", 1
        elif b"\0" in body:
            what, line = "it holds NUL octets", body.count(b"\n", 0, body.index(b"\0")) + 1
        elif host.file.bad_utf8:
            line = next(
                (n for n, raw in enumerate(body.split(b"\n"), 1) if raw.decode("utf-8", "ignore").encode() != raw), 1
            )
            what = f"it is not UTF-8 at line {line}"
        else:
            if site.is_live and host.media_type != "text/plain":
                media = Evidence("header", host.final, None, f"Content-Type: {host.media_type or 'none'}")
                message = f"robots.txt is served as {host.media_type or 'no media type'}, not as text/plain"
                yield Hit(host.url, site.all_mask, message, (media,), severity=Severity.NOTE)
            continue
        yield Hit(host.url, site.all_mask, f"robots.txt: {what}", (Evidence("robots", host.where, line, what),))


_SLOWER = "Slow crawlers down with 429 or 503 answers; else accept that few obey."
_INSTEAD = {
    "noindex": "Say noindex on the page (tag or header), and take the line out.",
    "nofollow": "Say nofollow on the page (tag or header) or on the links, and take the line out.",
    "host": "Redirect the other hosts to the one that is meant, and take the line out.",
    "clean-param": "Name the address without the parameters as canonical; else accept that few obey.",
    "crawl-delay": _SLOWER, "request-rate": _SLOWER, "visit-time": _SLOWER,
}  # fmt: skip
"""What does what a field was meant to do."""


@check(
    "robots-unsupported-field",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=LINE_GOES,
)
def robots_unsupported_field(site: Site) -> Iterator[Hit]:
    """A line of robots.txt uses a field that is in no standard.

    Why: Only some crawlers read it, or none; whoever relies on it is let down by the others.
    Mend: Say noindex on the page or in a header; slow crawlers down with 429 or 503 answers; else accept that few obey.
    Rests on: RFC 9309 section 2.2.4: other records may be read, and must not interfere.
    Evidence: The line.
    """
    for host in readable(site):
        for line in host.file.lines:
            if line.field in UNSUPPORTED:
                who = READERS.get(line.field, "few crawlers read it, if any")
                severity = Severity.FIX if line.field in ("noindex", "nofollow") else None
                message = f"{code(line.field)} is in no standard: {who}"
                shown = (robots_line(host, line.number, line.text),)
                yield Hit(host.url, site.all_mask, message, shown, severity=severity, mend=_INSTEAD.get(line.field, ""))


@check(
    "robots-bad-path",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, line_with(lambda path: _right_path(path))),
)
def robots_bad_path(site: Site) -> Iterator[Hit]:
    """A rule's path is written so that it does not match what was meant.

    Why: A path that does not begin with `/` or `*` matches nothing; spaces, back slashes and expressions are taken literally.
    Mend: Write the path as it stands in addresses, beginning with `/`; `*` stands for anything, `$` for the end.
    Rests on: RFC 9309 section 2.2.2 and 2.2.3: paths are compared from the first octet; only `*` and `$` are special.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            what, severity = _path_fault(line, rule)
            if what:
                shown = (robots_line(host, line.number, line.text),)
                yield Hit(host.url, site.all_mask, f"{code(line.text)}: {what}", shown, severity=severity)


def _right_path(path: str) -> str | None:
    """A path as it was meant, where that is plain."""
    if url := normalise(path):
        return split(url).path
    if path and path[0] not in "/*$":
        return "/" + path.replace("\\", "/").lstrip("/")
    return path.replace("\\", "/") if "\\" in path else None


def _path_fault(line: Line, rule: Rule | None) -> tuple[str, Severity | None]:
    """What is wrong with a rule's path (nothing: empty), and how grave that is, where it is not as usual."""
    path = rule.path if rule else ""
    if path and normalise(path):
        return f"a full address matches nothing; write {code(_right_path(path) or '')}", None
    if path and path[0] not in "/*$":
        return f"it does not begin with `/`, so it matches nothing; write {code(_right_path(path) or '')}", None
    if re.search(r"\s", path):
        return "addresses hold no spaces; write `%20`, or one line for each path", None
    if "\\" in path:
        return "a back slash matches nothing; write `/`", None
    if _REGEX.search(path):
        return "regular expressions are not read: it is taken literally; `*` stands for anything", None
    if re.search(r"[^\s#:]#", line.text):
        return "what follows `#` is a comment; write `%23` if it belongs to the path", Severity.ASK
    return "", None


def _ends_idly(path: str) -> bool:
    """Whether a path ends in a `*` that adds nothing."""
    return bool(path.strip("*")) and "$" not in path[:-1] and path.endswith("*")


@check(
    "robots-anchor-slip",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, line_with(lambda path: path.rstrip("*") if _ends_idly(path) else None)),
)
def robots_anchor_slip(site: Site) -> Iterator[Hit]:
    """A `$` or `*` of a rule does not do what it seems to.

    Why: `$` means the end only at the very end; a trailing `*` adds only weight; a rule of stars alone catches everything.
    Mend: Write `%24` for a literal dollar sign, leave the trailing `*` out, name what is meant instead of `*`.
    Rests on: RFC 9309 section 2.2.3.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            path = rule.path if rule else ""
            if path and not path.strip("*"):
                what, mend = (
                    "it catches every address",
                    "Name what is meant instead of `*`, or write `/` for everything.",
                )
            elif "$" in path[:-1]:
                what = "`$` is not at the end, so it stands for a dollar sign"
                mend = "Write `%24` for a literal dollar sign, or put the `$` at the end."
            elif _ends_idly(path):
                what = f"the trailing `*` adds nothing: {code(path.rstrip('*'))} matches the same"
                mend = "Leave the trailing `*` out."
            else:
                continue
            shown = (robots_line(host, line.number, line.text),)
            yield Hit(host.url, site.all_mask, f"{code(line.text)}: {what}", shown, mend=mend)


@check("robots-empty-agent", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_empty_agent(site: Site) -> Iterator[Hit]:
    """A User-agent line names no crawler, or a group has no rule.

    Why: Rules of a group that names no one hold for no one; a crawler whose group has no rule may fetch everything.
    Mend: Name the crawler's token, or `*`; give the group its rules, or `Disallow:` to say that everything is allowed.
    Rests on: RFC 9309 section 2.2.1: a product token is made of letters, `_` and `-`.
    Evidence: The User-agent line.
    """
    for host in readable(site):
        for group in host.file.groups:
            for token, line in zip(group.agents, group.agent_lines, strict=True):
                shown = (robots_line(host, line.number, line.text),)
                if not token:
                    yield Hit(
                        host.url, site.all_mask, f"{code(line.text)} names no crawler: its group holds for none", shown
                    )
                elif not group.rules and not group.empty_rules and _only_group(host, token):
                    message = f"the group for {token} has no rule: everything is allowed"
                    mend = "Give the group its rules, or `Disallow:` to say that everything is allowed."
                    yield Hit(host.url, crawlers_of(site, (token,)), message, shown, severity=Severity.NOTE, mend=mend)


def _only_group(host: HostRobots, token: str) -> bool:
    return not any(g.rules or g.empty_rules for g in host.file.groups if token in g.agents)


@check("robots-split-group", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_split_group(site: Site) -> Iterator[Hit]:
    """The rules for one crawler stand in several groups.

    Why: They are merged, but whoever edits one group does not see the others.
    Mend: Put all rules for the crawler into one group.
    Rests on: RFC 9309 section 2.2.1: groups for the same crawler are combined into one.
    Evidence: The User-agent lines.
    """
    for host in readable(site):
        for token in host.file.agents:
            lines = [
                line for g in host.file.groups for a, line in zip(g.agents, g.agent_lines, strict=True) if a == token
            ]
            groups = sum(1 for g in host.file.groups if token in g.agents)
            if groups > 1:
                shown = tuple(robots_line(host, line.number, line.text) for line in lines[:20])
                message = f"the rules for {token} stand in {groups} groups, which are merged"
                yield Hit(host.url, crawlers_of(site, (token,)), message, shown)


@check("robots-group-replaces-all", CheckClass.CONFLICT, Severity.ASK, follows=Follows.SHUT_HOST, needs=(Need.ROBOTS,))
def robots_group_replaces_all(site: Site) -> Iterator[Hit]:
    """A group for one crawler leaves out rules that hold for all others.

    Why: A crawler obeys its own group alone, so what `*` bars is open to it unless its group says so again.
    Mend: Repeat the rules of the `*` group in the crawler's group, or take that group away.
    Rests on: RFC 9309 section 2.2.1: the `*` group holds only where no group names the crawler.
    Evidence: The crawler's User-agent line, and the rules that do not hold for it.
    """
    for host in readable(site):
        general = host.file.ruleset((STAR,)).rules
        for i, crawler in enumerate(site.crawlers):
            rules = host.ruleset(crawler)
            if rules.group in (None, STAR) or crawler.token == STAR:
                continue
            missing = left_out(rules.rules, general)
            if missing:
                opened = _opened(site, host, i)
                shown = [robots_line(host, line.number, line.text) for line in rules.lines[:1]]
                shown += [robots_line(host, rule.line, rule.text) for rule in missing[:5]]
                names = listing([f"{code(r.label)}" for r in missing[:3]])
                more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
                known = f", which opens {plural(len(opened), 'known address')}" if opened else ""
                message = f"the group for {rules.group} leaves out {names}{more}{known}"
                yield Hit(host.url, 1 << i, message, tuple(shown), also=tuple(opened[:200]))


def _opened(site: Site, host: HostRobots, index: int) -> list[str]:
    """Known addresses that a crawler's own group opens to it although `*` bars them."""
    if site.is_lone_file:
        return []
    general = host.file.ruleset((STAR,)).rules
    ids, paths = site.paths(host.origin)
    import numpy as np

    from indrel.core.robots import match_many

    bars = np.array([not rule.allow for rule in general] + [False])
    found = about(
        site,
        ids[bars[match_many(general, paths)]].tolist(),
        f"SELECT origin || path FROM fact JOIN picked ON picked.id = fact.id WHERE known AND barred & {1 << index} = 0 "
        "ORDER BY path",
    )
    return [url for (url,) in found]


@check("robots-rule-never-wins", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_rule_never_wins(site: Site) -> Iterator[Hit]:
    """A rule can never decide, because another one always beats it.

    Why: Whoever reads the file takes it for effective; it may stand against what is meant.
    Mend: Take it out, or make it longer than the one that beats it.
    Rests on: RFC 9309 section 2.2.2: the longest match wins, and allow wins a tie.
    Evidence: The rule, and the one that beats it.
    """
    for host in readable(site):
        for rule, better in beaten(host):
            same = rule.path == better.path and rule.allow == better.allow
            what = (
                f"repeats line {better.line}"
                if same
                else f"is always beaten by {code(better.text)} (line {better.line})"
            )
            shown = (robots_line(host, rule.line, rule.text), robots_line(host, better.line, better.text))
            yield Hit(host.url, site.all_mask, f"{code(rule.text)} {what}", shown)


def beaten(host: HostRobots) -> list[tuple[Rule, Rule]]:
    """Rules that never win in any group that they stand in, each with one that beats it."""
    losses: dict[int, tuple[Rule, Rule]] = {}
    wins: set[int] = set()
    for token in host.file.agents:
        rules = host.file.ruleset((token,)).rules
        lost = {rule.line: (rule, better) for rule, better in never_wins(rules)}
        losses |= lost
        wins |= {r.line for r in rules} - set(lost)
    return [losses[line] for line in sorted(losses) if line not in wins]


@check(
    "robots-foreign-sitemap",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, to("(the line goes, or names a sitemap of this site)")),
)
def robots_foreign_sitemap(site: Site) -> Iterator[Hit]:
    """A Sitemap line is relative, malformed, or names a host that is not this site.

    Why: Most often the file was copied from elsewhere: crawlers are sent to another site's sitemap, or to none.
    Mend: Write the whole address of this site's own sitemap.
    Rests on: Sitemaps protocol 0.9: the Sitemap line holds an absolute address.
    Evidence: The line.
    """
    hosts = {site_key(start) for start in site.starts.values()} | {
        h.removeprefix("www.") for h in site.meta.get("hosts", ())
    }
    for host in readable(site):
        for line in host.file.sitemaps:
            url = normalise(line.value)
            if url is None:
                what = "is relative or malformed; write the whole address"
            elif split(url).host.removeprefix("www.") in PLACEHOLDERS:
                what = f"names the placeholder host {split(url).host}"
            elif (
                (site.is_lone_file and not site.meta.get("located"))
                or site_key(url) in hosts
                or site_key(url).removeprefix("www.") in hosts
                or _lists_this_site(site, url)
            ):
                continue
            else:
                what = f"names {split(url).host}, which is not this site"
            yield Hit(host.url, site.all_mask, f"{code(line.text)} {what}", (robots_line(host, line.line, line.text),))


def _lists_this_site(site: Site, url: str) -> bool:
    """Whether a sitemap elsewhere, or one that it lists, really puts forward addresses of this site."""
    return bool(
        site.one(
            "SELECT count(*) FROM sitemap s LEFT JOIN sitemap c ON c.parent = s.id JOIN entry e ON e.sitemap IN (s.id, c.id) "
            "JOIN address a ON a.id = e.address WHERE s.url = ? AND a.site",
            [url],
        )
    )


@check("robots-tells-secrets", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_tells_secrets(site: Site) -> Iterator[Hit]:
    """A rule spells out an address that looks private.

    Why: Everyone may read robots.txt: it tells where the address is, and keeps no one out.
    Mend: Lock the address with credentials and take the rule out; at least name it by a prefix that gives nothing away.
    Rests on: RFC 9309 section 3: the rules are no access control, and listing paths exposes them.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            found = _SECRET.search(rule.path) if rule and not rule.allow else None
            if found:
                message = f"{code(line.text)} tells everyone of an address that looks private"
                yield Hit(host.url, site.all_mask, message, (robots_line(host, line.number, line.text),))
