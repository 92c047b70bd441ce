"""Sitemaps against the site: what each file lists, by state and section."""

from __future__ import annotations

from dataclasses import dataclass, field

from indrel.base.sqltext import quoted_list
from indrel.decide.place import placed
from indrel.decide.site import Site

MANY = 5
"""Listed pages of a section and kind that tell that such pages are meant to be listed."""


@dataclass
class SitemapStates:
    """One sitemap file as the last of the crawlers sees its entries. `unknown` entries are no addresses of the site."""

    url: str
    kind: str
    entries: int
    states: dict[str, int] = field(default_factory=dict)
    sections: dict[str, dict[str, int]] = field(default_factory=dict)
    unlinked: int = 0

    def as_json(self) -> dict[str, object]:
        return dict(vars(self))


def sitemap_states(site: Site) -> list[SitemapStates]:
    """Every sitemap that was read, in the order found, with its entries by state and section."""
    found = {
        number: SitemapStates(url, kind, entries or 0)
        for number, url, kind, entries in site.rows(
            "SELECT id, url, kind, entries FROM sitemap WHERE status = 200 AND kind <> 'html' ORDER BY id"
        )
    }
    state = site.state_sql(len(site.crawlers) - 1)
    for number, section, how, count, unlinked in site.rows(
        f"""SELECT e.sitemap, s.section, s.state, count(*), count(*) FILTER (s.state = 'open' AND NOT s.linked) FROM entry e
        JOIN (SELECT id, {site.sections.sql} AS section, CASE WHEN site THEN {state} ELSE 'unknown' END AS state,
            start OR followed + unfollowed > 0 AS linked FROM fact) s ON s.id = e.address
        GROUP BY ALL ORDER BY e.sitemap, s.section, s.state"""
    ):
        one = found.get(number)
        if one is not None:
            one.states[how] = one.states.get(how, 0) + count
            one.sections.setdefault(section, {})[how] = count
            one.unlinked += unlinked
    return list(found.values())


_ALIKE = "html AND open > 0 AND f.site AND kind IS NOT NULL"
_NEXT_PART = "/[0-9]{1,3}/?$"
"""How addresses end that stand below a page of their own as its second or third part."""

_LEFT_OUT = f"""NOT listed AND followed > 0 AND want NOT IN ('hide', 'lock', 'drop') AND NOT (regexp_matches(path, '{_NEXT_PART}')
    AND regexp_replace(path, '{_NEXT_PART}', '') IN (SELECT rtrim(path, '/') FROM fact WHERE html AND listed))"""

LEFT_OUT = f"""f.id IN (SELECT f.id FROM fact f JOIN place p ON p.address = f.id WHERE {_ALIKE} AND {_LEFT_OUT} AND (p.section, kind) IN
    (SELECT (p.section, kind) FROM fact f JOIN place p ON p.address = f.id WHERE {_ALIKE} GROUP BY p.section, kind
    HAVING count(*) FILTER (listed) >= {MANY} AND count(*) FILTER (listed) >= count(*) FILTER ({_LEFT_OUT})))"""
"""Whether an address `f` is an open, linked page that no sitemap lists, of a section and kind whose others are listed."""


def left_out(site: Site) -> list[tuple[str, int]]:
    """Sections of which the sitemaps leave pages out, though they list the others like them: how many, the most first."""
    if not (site.holds("entry") and site.holds("link")):
        return []
    placed(site)
    return site.rows(
        f"""SELECT section, sum(missed)::INTEGER AS pages FROM (
            SELECT p.section, count(*) FILTER (listed) AS named, count(*) FILTER ({_LEFT_OUT}) AS missed
            FROM fact f JOIN place p ON p.address = f.id WHERE {_ALIKE} GROUP BY p.section, kind)
        WHERE named >= {MANY} AND named >= missed AND missed > 0 GROUP BY section ORDER BY pages DESC, section"""
    )


_PARTS = ("numbered-page", "parameter-variant")
"""Kinds that no system puts into its sitemaps."""


def is_part(site: Site) -> str:
    """Whether an address is a page's further part or variant which is wanted because a pattern reaches it, and is not listed
    by intention: over the columns of `fact`."""
    patterns = [str(number) for number, e in enumerate(site.intent.wants) if not e.names_one and not e.kinds]
    kinds = quoted_list(_PARTS)
    return (
        f"(NOT listed AND kind IN ({kinds}) AND coalesce(entry, -1) IN ({', '.join(patterns)}))"
        if patterns
        else "false"
    )


def unlisted(site: Site) -> int:
    """Wanted and open pages that no sitemap lists."""
    wanted = f"known AND open > 0 AND want = 'show' AND NOT listed AND NOT {is_part(site)}"
    return int(site.one(f"SELECT count(*) FROM fact WHERE {wanted}"))
