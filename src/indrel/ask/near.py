"""Known URLs that may be meant by one that an audit does not know."""

from __future__ import annotations

from difflib import get_close_matches

from indrel.core.address import split
from indrel.decide.site import Site

MOST_NEAR = 3
MOST_COMPARED = 20_000
"""Known URLs that an unknown one is compared with."""


def near(site: Site, url: str) -> list[str]:
    """Known URLs that differ from an unknown one in scheme, `www`, slash, file ending or case alone; else those written most alike."""
    parts = split(url)
    terms = site.terms
    alike = site.rows(
        f"""SELECT f.origin || f.path FROM fact f, (SELECT ? AS origin, ? AS path) u
        WHERE f.known AND {terms.form("f", "f.path")} = {terms.form("u", "u.path")} ORDER BY 1 LIMIT {MOST_NEAR}""",
        [parts.origin, parts.path],
    )
    if alike:
        return [one for (one,) in alike]
    known = site.rows(
        f"SELECT origin || path FROM fact WHERE known AND origin = ? ORDER BY id LIMIT {MOST_COMPARED}", [parts.origin]
    )
    return get_close_matches(url, [one for (one,) in known], 1, 0.9)
