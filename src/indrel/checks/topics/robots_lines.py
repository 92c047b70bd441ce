"""robots.txt line by line: what can be checked without a crawl."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINE_GOES, ROBOTS, Change, line_with, to
from indrel.checks.evidence import about, robots_line
from indrel.checks.measures import MOST_NAMED
from indrel.checks.topics.robots import UNSUPPORTED, is_page, site_robots
from indrel.core.address import normalise, site_key, split
from indrel.core.answers import status_text
from indrel.core.crawlers import STAR, crawler
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural, verb
from indrel.core.robots import Access, HostRobots
from indrel.core.robots.access import MAX_HOPS
from indrel.core.robots.compare import left_out, never_wins
from indrel.core.robots.file import MAX_OCTETS, READ_BYTES, Line, Rule
from indrel.decide.kinds import FOR_FEW
from indrel.decide.site import Site

READERS = {
    "crawl-delay": "some engines read it (Bingbot, Slurp), the largest does not",
    "noindex": "no engine reads it any more, so it hides nothing",
    "nofollow": "no engine reads it",
    "host": "no engine reads it any more",
    "clean-param": "one engine reads it (Yandex)",
    "request-rate": "few crawlers read it (SeznamBot)",
    "visit-time": "few crawlers read it",
}
PLACEHOLDERS = ("example.com", "example.net", "example.org", "localhost")
_REGEX = re.compile(r"\.\*|\.\+|\[[^\]]*\]|\(.*[|*].*\)|\(\?|^\^|\\[dws.]|\|")
# `/wp-admin` is the same on every site of its system, which writes that rule itself: it reveals nothing
_SECRET = re.compile(
    rf"(?:^|[/_.-])(?:{FOR_FEW}|(?<!/wp-)admin|administrator|bak|sql|dumps?|personal|"
    r"(?<!lost[_-])(?<!forgot[_-])(?<!reset[_-])passwords?(?![/_-](?:reset|new|edit|forgot|recovery))|passwd|staff|tokens?|env|git)(?=$|[/_.*$?-])",
    re.IGNORECASE,
)


def readable(site: Site) -> Iterator[HostRobots]:
    """robots.txt of the site's hosts that have rules."""
    for host in site_robots(site):
        if host.access is Access.RULES and not is_page(host):
            yield host


def rule_lines(host: HostRobots) -> Iterator[tuple[Line, Rule | None]]:
    """The allow and disallow lines, with their rules if they have a path."""
    rules = {r.line: r for g in host.file.groups for r in g.rules} | {r.line: r for r in host.file.orphans}
    for line in host.file.lines:
        if line.field in ("allow", "disallow"):
            yield line, rules.get(line.number)


def crawlers_of(site: Site, agents: tuple[str, ...]) -> int:
    """The audited crawlers that a group for `agents` applies to, by their tokens alone."""
    mask = 0
    for i, one in enumerate(site.crawlers):
        if any(a in one.robots_tokens for a in agents):
            mask |= 1 << i
    return mask or site.all_mask


@check("robots-redirects", CheckClass.FLAW, Severity.ASK, follows=Follows.NOTHING, needs=(Need.LIVE,))
def robots_redirects(site: Site) -> Iterator[Hit]:
    """robots.txt redirects.

    Why: The rules apply to the host that was asked. Some crawlers follow few redirects; after more than five there are no
    rules.
    Fix: Serve /robots.txt on each host itself, with status 200.
    Source: RFC 9309 section 2.3.1.2: at least five redirects are followed, also across hosts.
    Evidence: The URLs of the redirects, and what the last one returns.
    """
    for host in site_robots(site):
        if host.hops:
            shown = [Evidence("status", hop, None, "redirect") for hop in host.hops]
            shown.append(Evidence("status", host.final, None, status_text(host.status, host.error)))
            many = len(host.hops) > MAX_HOPS
            abroad = split(host.final).host != split(host.url).host
            end = (
                "no rules apply"
                if many
                else f"the rules of {host.final} apply"
                if abroad
                else f"{host.final} serves it"
            )
            message = f"robots.txt redirects {plural(len(host.hops), 'time')}: {end}."
            yield Hit(host.url, site.all_mask, message, tuple(shown), severity=Severity.FIX if many else None)


@check("robots-too-long", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_too_long(site: Site) -> Iterator[Hit]:
    """robots.txt is longer than crawlers read.

    Why: Lines beyond the first 500 KiB have no effect; a line that is cut is dropped as well.
    Fix: Shorten the file: use wildcards and folders instead of long lists.
    Source: RFC 9309 section 2.5: at least 500 KiB must be parsed.
    Evidence: The first line that has no effect.
    """
    for host in readable(site):
        if host.file.beyond:
            last = host.file.lines[-1].number if host.file.lines else 0
            line = Evidence("robots", host.where, last + 1, f"{plural(host.file.beyond, 'line')} without effect")
            least = "at least " if host.file.size >= READ_BYTES else ""
            lines = plural(host.file.beyond, "line")
            have = verb(host.file.beyond, "has", "have")
            message = f"The file has {least}{host.file.size:,} bytes: {least}{lines} beyond the first {MAX_OCTETS:,} {have} no effect."
            yield Hit(host.url, site.all_mask, message, (line,))


@check("robots-encoding", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_encoding(site: Site) -> Iterator[Hit]:
    """robots.txt is not UTF-8 text, or is not served as text/plain.

    Why: Bytes that are not UTF-8 do not match the intended URLs; in UTF-16 no line can be read at all.
    Fix: Save the file as UTF-8 without NUL bytes, and serve it as text/plain.
    Source: RFC 9309 section 2.3: UTF-8, media type text/plain.
    Evidence: The line with the first such byte, or the media type.
    """
    for host in readable(site):
        body = host.body
        if body.startswith((b"\xff\xfe", b"\xfe\xff")):
            what, line = "is UTF-16, so no line can be read", 1
        elif b"\0" in body:
            what, line = "has NUL bytes", body.count(b"\n", 0, body.index(b"\0")) + 1
        elif host.file.bad_utf8:
            line = next(
                (n for n, raw in enumerate(body.split(b"\n"), 1) if raw.decode("utf-8", "ignore").encode() != raw), 1
            )
            what = f"is not UTF-8 at line {line}"
        else:
            if site.is_live and host.media_type != "text/plain":
                media = Evidence("header", host.final, None, f"Content-Type: {host.media_type or 'none'}")
                message = f"robots.txt is served as {host.media_type or 'no media type'}, not as text/plain."
                yield Hit(host.url, site.all_mask, message, (media,), severity=Severity.NOTE)
            continue
        yield Hit(host.url, site.all_mask, f"robots.txt {what}.", (Evidence("robots", host.where, line, what),))


_SLOWER = "Slow crawlers down with 429 or 503. Otherwise accept that few crawlers obey the line."
_INSTEAD = {
    "noindex": "Give the page noindex (tag or header), and remove the line.",
    "nofollow": "Give the page or the links nofollow, and remove the line.",
    "host": "Redirect the other hosts to the one that you mean, and remove the line.",
    "clean-param": "Let canonicals point to the URL without the parameters. Otherwise accept that few crawlers obey the line.",
    "crawl-delay": _SLOWER, "request-rate": _SLOWER, "visit-time": _SLOWER,
}  # fmt: skip
"""What achieves what a field is meant to do."""


@check(
    "robots-unsupported-field",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=LINE_GOES,
)
def robots_unsupported_field(site: Site) -> Iterator[Hit]:
    """A line of robots.txt uses a field that is not in any standard.

    Why: Only some crawlers read it, or none, so it does not work for the others.
    Fix: Give the page noindex in a tag or header. Slow crawlers down with 429 or 503. Otherwise accept that few crawlers obey
    the line.
    Source: RFC 9309 section 2.2.4: other records may be read, and must not interfere.
    Evidence: The line.
    """
    for host in readable(site):
        for line in host.file.lines:
            if line.field in UNSUPPORTED:
                who = READERS.get(line.field, "few crawlers read it, if any")
                severity = Severity.FIX if line.field in ("noindex", "nofollow") else None
                message = f"{code(line.field)} is not in any standard: {who}."
                shown = (robots_line(host, line.number, line.text),)
                yield Hit(
                    host.url, site.all_mask, message, shown, severity=severity, advice=_INSTEAD.get(line.field, "")
                )


@check(
    "robots-bad-path",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, line_with(lambda path: _right_path(path))),
)
def robots_bad_path(site: Site) -> Iterator[Hit]:
    """A rule's path does not match what it seems to mean.

    Why: A path that does not begin with `/` or `*` matches nothing. Spaces, backslashes and regular expressions are taken
    literally.
    Fix: Write the path as is in URLs, beginning with `/`; `*` matches anything, `$` marks the end.
    Source: RFC 9309 section 2.2.2 and 2.2.3: paths are compared from the first byte; only `*` and `$` are special.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            what, severity = _path_fault(line, rule)
            if what:
                shown = (robots_line(host, line.number, line.text),)
                yield Hit(host.url, site.all_mask, f"{code(line.text)}: {what}.", shown, severity=severity)


def _right_path(path: str) -> str | None:
    """The path that is meant, if that is clear."""
    if url := normalise(path):
        return split(url).path
    if path and path[0] not in "/*$":
        return "/" + path.replace("\\", "/").lstrip("/")
    return path.replace("\\", "/") if "\\" in path else None


def _path_fault(line: Line, rule: Rule | None) -> tuple[str, Severity | None]:
    """What is wrong with a rule's path (nothing: empty), and its severity if it is not the usual one."""
    path = rule.path if rule else ""
    if path and normalise(path):
        return f"a full URL matches nothing; write {code(_right_path(path) or '')}", None
    if path and path[0] not in "/*$":
        return f"it does not begin with `/`, so it matches nothing; write {code(_right_path(path) or '')}", None
    if re.search(r"\s", path):
        return "URLs have no spaces; write `%20`, or one line per path", None
    if "\\" in path:
        return "a backslash matches nothing; write `/`", None
    if _REGEX.search(path):
        return "regular expressions are taken literally; `*` matches anything", None
    if re.search(r"[^\s#:]#", line.text):
        return "the part after `#` is a comment; write `%23` if it belongs to the path", Severity.ASK
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

    Why: `$` marks the end only at the very end. A trailing `*` only adds weight. A rule of stars alone matches everything.
    Fix: Write `%24` for a literal dollar sign, remove the trailing `*`, and name the path that you mean instead of `*`.
    Source: RFC 9309 section 2.2.3.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            path = rule.path if rule else ""
            if path and not path.strip("*"):
                what, mend = (
                    "it matches every URL",
                    "Name the path that you mean instead of `*`, or write `/` for everything.",
                )
            elif "$" in path[:-1]:
                what = "`$` is not at the end, so it means a dollar sign"
                mend = "Write `%24` for a literal dollar sign, or put the `$` at the end."
            elif _ends_idly(path):
                what = f"the trailing `*` adds nothing: {code(path.rstrip('*'))} matches the same"
                mend = "Remove the trailing `*`."
            else:
                continue
            shown = (robots_line(host, line.number, line.text),)
            yield Hit(host.url, site.all_mask, f"{code(line.text)}: {what}.", shown, advice=mend)


@check("robots-empty-agent", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_empty_agent(site: Site) -> Iterator[Hit]:
    """A User-agent line names no crawler, or a group has no rule.

    Why: The rules of a group that names no crawler apply to none. A crawler whose group has no rule may fetch everything.
    Fix: Name the crawler's user agent, or `*`. Give the group its rules, or `Disallow:` if everything is allowed.
    Source: RFC 9309 section 2.2.1: a product token is made of letters, `_` and `-`.
    Evidence: The User-agent line.
    """
    for host in readable(site):
        for group in host.file.groups:
            for token, line in zip(group.agents, group.agent_lines, strict=True):
                shown = (robots_line(host, line.number, line.text),)
                if not token:
                    yield Hit(
                        host.url,
                        site.all_mask,
                        f"{code(line.text)} names no crawler, so its group applies to none.",
                        shown,
                    )
                elif not group.rules and not group.empty_rules and _only_group(host, token):
                    message = f"The group for {token} has no rule, so everything is allowed."
                    mend = "Give the group its rules, or `Disallow:` if everything is allowed."
                    yield Hit(
                        host.url, crawlers_of(site, (token,)), message, shown, severity=Severity.NOTE, advice=mend
                    )


def _only_group(host: HostRobots, token: str) -> bool:
    return not any(g.rules or g.empty_rules for g in host.file.groups if token in g.agents)


@check("robots-split-group", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_split_group(site: Site) -> Iterator[Hit]:
    """The rules for one crawler are in several groups.

    Why: Crawlers merge them, but people who edit one group do not see the others.
    Fix: Put all rules for the crawler into one group.
    Source: RFC 9309 section 2.2.1: groups for the same crawler are combined into one.
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
                message = f"The rules for {token} are in {groups} groups, which crawlers merge."
                yield Hit(host.url, crawlers_of(site, (token,)), message, shown)


@check("robots-group-replaces-all", CheckClass.CONFLICT, Severity.ASK, follows=Follows.SHUT_HOST, needs=(Need.ROBOTS,))
def robots_group_replaces_all(site: Site) -> Iterator[Hit]:
    """A group for one crawler lacks rules that apply to all others.

    Why: A crawler obeys only its own group, so it may fetch what `*` blocks unless its group repeats the rule.
    Fix: Repeat the rules of the `*` group in the crawler's group, or remove that group.
    Source: RFC 9309 section 2.2.1: the `*` group applies only if no group names the crawler.
    Evidence: The crawler's User-agent line, and the rules that do not apply to it.
    """
    for host in readable(site):
        general = host.file.ruleset((STAR,)).rules
        groups: dict[tuple[Rule, ...], list[str]] = {}
        for token in host.file.agents:
            if token != STAR and crawler(token).star:
                groups.setdefault(host.file.ruleset((token,)).rules, []).append(token)
        for rules, tokens in groups.items():
            missing = left_out(rules, general)
            if not missing:
                continue
            mask = sum(1 << i for i, one in enumerate(site.crawlers) if host.ruleset(one).group in tokens)
            opened = _opened(site, host, rules)
            shown = [robots_line(host, line.number, line.text) for line in host.file.ruleset(tokens[:1]).lines[:1]]
            shown += [robots_line(host, rule.line, rule.text) for rule in missing[:5]]
            names = listing([f"{code(r.label)}" for r in missing[:3]])
            more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
            known = f", which opens {plural(len(opened), 'known URL')} to it" if opened else ""
            message = f"The group for {listing(tokens)} lacks {names}{more}{known}."
            unheard = () if mask else tuple(tokens)
            yield Hit(host.url, mask, message, tuple(shown), also=tuple(opened[:MOST_NAMED]), crawlers=unheard)


def _opened(site: Site, host: HostRobots, own: Sequence[Rule]) -> list[str]:
    """Known URLs that a crawler's own group opens to it although `*` blocks them."""
    if site.is_lone_file:
        return []
    import numpy as np

    from indrel.core.robots import match_many

    ids, paths = site.paths(host.origin)

    def barred(rules: Sequence[Rule]) -> Any:
        return np.array([not rule.allow for rule in rules] + [False])[match_many(rules, paths)]

    chosen = ids[barred(host.file.ruleset((STAR,)).rules) & ~barred(own)].tolist()
    known = "SELECT origin || path FROM fact JOIN picked ON picked.id = fact.id WHERE known ORDER BY path"
    return [url for (url,) in about(site, chosen, known)]


@check("robots-rule-never-wins", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_rule_never_wins(site: Site) -> Iterator[Hit]:
    """A rule is always overridden by another rule, or is a duplicate.

    Why: It looks effective but is not; it may even contradict what you intend.
    Fix: Remove it, or make it longer than the rule that overrides it.
    Source: RFC 9309 section 2.2.2: the longest match wins, and allow wins a tie.
    Evidence: The rule, and the one that overrides it.
    """
    for host in readable(site):
        for rule, better in beaten(host):
            same = rule.path == better.path and rule.allow == better.allow
            what = (
                f"repeats line {better.line}"
                if same
                else f"is always overridden by {code(better.text)} (line {better.line})"
            )
            shown = (robots_line(host, rule.line, rule.text), robots_line(host, better.line, better.text))
            yield Hit(host.url, site.all_mask, f"{code(rule.text)} {what}.", shown)


def beaten(host: HostRobots) -> list[tuple[Rule, Rule]]:
    """Rules that never win in any of their groups, each with one that overrides it."""
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
    change=Change(ROBOTS, to("(remove the line, or name a sitemap of this site)")),
)
def robots_foreign_sitemap(site: Site) -> Iterator[Hit]:
    """A Sitemap line is relative, malformed, or names a host that is not this site's.

    Why: Most often the file was copied from another site: crawlers are sent to that site's sitemap, or to none.
    Fix: Write the whole URL of this site's own sitemap.
    Source: Sitemaps protocol 0.9: the Sitemap line has an absolute URL.
    Evidence: The line.
    """
    hosts = {site_key(start) for start in site.starts.values()} | {
        h.removeprefix("www.") for h in site.meta.get("hosts", ())
    }
    for host in readable(site):
        for line in host.file.sitemaps:
            url = normalise(line.value)
            if url is None:
                what = "is relative or malformed; write the whole URL"
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
            yield Hit(host.url, site.all_mask, f"{code(line.text)} {what}.", (robots_line(host, line.line, line.text),))


def _lists_this_site(site: Site, url: str) -> bool:
    """Whether a sitemap elsewhere, or one that it lists, really lists URLs of this site."""
    return bool(
        site.one(
            "SELECT count(*) FROM sitemap s LEFT JOIN sitemap c ON c.parent = s.id JOIN entry e ON e.sitemap IN (s.id, c.id) "
            "JOIN address a ON a.id = e.address WHERE s.url = ? AND a.site",
            [url],
        )
    )


@check("robots-tells-secrets", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING, needs=(Need.ROBOTS,))
def robots_tells_secrets(site: Site) -> Iterator[Hit]:
    """A rule reveals a URL that looks private.

    Why: Anyone can read robots.txt: it reveals the URL and keeps nobody out.
    Fix: Require a login for the URL and remove the rule. At least shorten the rule to a prefix that reveals nothing.
    Source: RFC 9309 section 3: the rules are no access control, and listing paths exposes them.
    Evidence: The rule.
    """
    for host in readable(site):
        for line, rule in rule_lines(host):
            found = _SECRET.search(rule.path) if rule and not rule.allow else None
            if found:
                message = f"{code(line.text)} points everyone to a URL that looks private."
                yield Hit(host.url, site.all_mask, message, (robots_line(host, line.number, line.text),))
