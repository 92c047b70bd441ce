"""Draft configuration that sends X-Robots-Tag where the wants need it: patterns for nginx and Apache httpd."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from indrel.base.plain import safe
from indrel.base.sqltext import quoted_list
from indrel.checks.headline import exposed_pages
from indrel.core.intent import WantEntry
from indrel.core.model import Want
from indrel.decide.kinds import RULES
from indrel.decide.predicates import NEEDS_NOINDEX
from indrel.decide.site import Site

VALUE = "noindex"
SURE = ("search-results", "cart", "login", "thank-you", "page-copy")
"""Kinds of unwanted pages for which noindex is the cure: variants of a page need a canonical instead."""

MOST_ONE_BY_ONE = 50


@dataclass(frozen=True)
class HeadersDraft:
    """Two files, and what each pattern is for. `without` are entries that no pattern of addresses can hold."""

    nginx: str
    apache: str
    patterns: tuple[tuple[str, str, int], ...] = ()
    without: tuple[WantEntry, ...] = ()
    inferred: bool = False
    """Whether no entry says so, and the wants are inferred from the site."""


def draft(site: Site) -> HeadersDraft:
    """Configuration lines for the entries of the intent that want addresses hidden.

    Later entries overrule earlier ones, as they do in the intent file. The lines hold for answers
    with status 200 alone, for others are never listed. Where no entry wants anything hidden, they are
    for the unwanted pages that the audit found open.
    """
    if not any(entry.want is Want.HIDE for entry in site.intent.wants):
        return _inferred(site)
    without: list[WantEntry] = []
    rules: list[tuple[str, bool, WantEntry]] = []
    for entry in site.intent.wants:
        patterns = regexes(entry)
        if not patterns:
            without.append(entry)
        for pattern in patterns:
            rules.append((pattern, entry.want is Want.HIDE, entry))
    while rules and not rules[0][1]:
        rules.pop(0)  # an exception from nothing
    if not any(hide for _, hide, _ in rules):
        return HeadersDraft("", "", (), tuple(without))
    counts = dict(site.rows(f"SELECT entry, count(*) FROM fact WHERE {NEEDS_NOINDEX} GROUP BY entry"))
    told = [(p, e.text, int(counts.get(site.intent.wants.index(e), 0))) for p, hide, e in rules if hide]
    return HeadersDraft(_nginx(rules), _apache(rules), tuple(told), tuple(without))


class _Exposed(NamedTuple):
    """An unwanted page that is open."""

    path: str
    kind: str


def _inferred(site: Site) -> HeadersDraft:
    """Lines for unwanted pages that are open: for their kind, if its pattern reaches no other page that is known, or one by one."""
    found = site.named(
        _Exposed,
        f"""SELECT path, kind FROM fact WHERE id IN ({exposed_pages(site)}) AND origin = ? AND kind IN ({quoted_list(SURE)})
        ORDER BY kind, path""",
        [site.base_origin],
    )
    paths: dict[str, list[str]] = {}
    for one in found:
        paths.setdefault(one.kind, []).append(one.path)
    rules: list[tuple[str, bool, WantEntry]] = []
    told = []
    for kind, of_kind in paths.items():
        entry = WantEntry(None, (kind,), Want.HIDE, f"{kind}, inferred", 0)
        patterns = regexes(entry)
        if not patterns or _reach_others(site, patterns, kind):
            patterns = [f"^{_piece(path)}$" for path in of_kind[:MOST_ONE_BY_ONE]]
        rules += [(pattern, True, entry) for pattern in patterns]
        told.append((" or ".join(patterns), f"{kind} (inferred)", len(of_kind)))
    return HeadersDraft(_nginx(rules), _apache(rules), tuple(told), (), True) if rules else HeadersDraft("", "")


def _reach_others(site: Site, patterns: Sequence[str], kind: str) -> bool:
    """Whether patterns also match a known page of another kind."""
    either = "|".join(f"({pattern.removeprefix('(?i)')})" for pattern in patterns)
    sql = "SELECT count(*) FROM fact WHERE known AND html AND kind <> ? AND origin = ? AND regexp_matches(path, ?, 'i')"
    return bool(site.one(sql, [kind, site.base_origin, either]))


def regexes(entry: WantEntry) -> list[str]:
    """Regular expressions on path and query that an entry comes to; none where only a page's content tells its kind."""
    if entry.match and entry.match.host:
        return []
    whole = _whole(entry.match.path) if entry.match else ""
    if not entry.kinds:
        return [whole]
    kinds = [r.address for r in RULES if r.kind in entry.kinds and r.address]
    tellable = {r.kind for r in RULES if r.address}
    if not kinds or not set(entry.kinds) <= tellable:
        return []
    kinds = [_case_free(k) for k in kinds]
    return [f"(?={whole})(?=.*{k.removeprefix('^')})" if whole else k for k in kinds]


def _whole(path: str) -> str:
    text = ".*".join(_piece(piece) for piece in re.split(r"\*+", path))
    return "^" + (text.removesuffix(".*") if text.endswith(".*") else text + "$")


def _piece(text: str) -> str:
    """A part of a path, literally, for a pattern between quotation marks."""
    return re.escape(text).replace('"', "%22")


def _case_free(pattern: str) -> str:
    return f"(?i){pattern}"


def _note(entry: WantEntry) -> str:
    return safe(re.sub(r"[\r\n#]", " ", entry.because or entry.text))


def _nginx(rules: list[tuple[str, bool, WantEntry]]) -> str:
    lines = [
        "# In the http block: which responses are kept out of the index. The first line that matches decides.",
        'map "$status $request_uri" $indrel_robots {',
        '    default "";',
    ]
    for pattern, hide, entry in reversed(rules):
        inner = pattern.removeprefix("(?i)")
        flag = "~*" if pattern.startswith("(?i)") else "~"
        inner = "^200 " + inner.removeprefix("^") if inner.startswith("^") else "^200 .*" + _grouped(inner)
        lines.append(f'    "{flag}{inner}" "{VALUE if hide else ""}";  # {_note(entry)}')
    lines += [
        "}", "",
        "# In the server block, and again in every location that has an add_header of its own: such a location",
        "# takes over none of the server's.",
        "add_header X-Robots-Tag $indrel_robots;", "",
    ]  # fmt: skip
    return "\n".join(lines)


def _grouped(pattern: str) -> str:
    return f"(?:{pattern})"


def _apache(rules: list[tuple[str, bool, WantEntry]]) -> str:
    lines = [
        "# In the virtual host (Apache httpd 2.4 with mod_setenvif and mod_headers). The last line that matches decides.",
    ]
    for pattern, hide, entry in rules:
        inner = pattern.removeprefix("(?i)")
        flag = "i" if pattern.startswith("(?i)") else ""
        inner = inner.removeprefix("^") if inner.startswith("^") else ".*" + _grouped(inner)
        inner = inner[:-1] + r"\s" if inner.endswith("$") else inner
        inner = inner.replace("(\\?|$)", "[?\\s]").replace("(/|$)", "(/|\\s)").replace("$)", "\\s)").replace("#", "\\#")
        lines += [
            f"# {_note(entry)}",
            f'SetEnvIfExpr "%{{THE_REQUEST}} =~ m#^\\S+\\s+{inner}#{flag}" {"" if hide else "!"}indrel_hide',
        ]
    lines += [
        f"Header set X-Robots-Tag \"{VALUE}\" \"expr=reqenv('indrel_hide') != '' && %{{REQUEST_STATUS}} == 200\"",
        "",
    ]
    return "\n".join(lines)
