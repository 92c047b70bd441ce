"""Pages of an earlier audit that a build holds no file for: nothing names them any more, and they will answer 404."""

from __future__ import annotations

from typing import NamedTuple

from indrel.ask.unknown import Unreadable
from indrel.core.address import split
from indrel.core.model import Evidence
from indrel.decide.site import Site

NO_FILE = "no file in the folder"

_STEM = "regexp_replace(regexp_replace({}, '/index[.]x?html?$', '/'), '/?$', '')"
"""An address without what names the same page: `/x`, `/x/` and `/x/index.html` are one, `/x.html` is another."""


class Vanished(NamedTuple):
    """A page that was, its states by crawler, and what is wanted of it."""

    url: str
    states: tuple[str, ...]
    want: str


def vanished(after: Site) -> list[Vanished]:
    """Pages read in the earlier audit (table `earlier` of the later one's connection) that stand below the address of a
    folder read whole, and of which it knows none. In a crawl they may be there anyway, and are unknown."""
    if after.traits.is_live or not after.traits.is_whole or after.is_part or Unreadable(after).whole:
        return []
    base = split(after.base)
    states = ", ".join(f"s{i}" for i in range(len(after.crawlers)))
    rows = after.rows(
        f"""SELECT origin || path AS url, kind, want, {states} FROM earlier
        ANTI JOIN (SELECT origin, path FROM fact WHERE known) USING (origin, path)
        WHERE html AND NOT unseen AND origin = ? AND starts_with(path, ?) AND NOT contains(path, '?')
        AND {_STEM.format("path")} NOT IN (
            SELECT {_STEM.format("path")} FROM fact WHERE known AND origin = ? AND read AND status < 400) ORDER BY url""",
        [base.origin, base.path, base.origin],
    )
    found = []
    for url, kind, want, *seen in rows:
        entries = after.intent.deciding(url, kind)
        found.append(Vanished(url, tuple(seen), entries[0].want if entries else want))
    return found


def gone_from(url: str) -> Evidence:
    """What shows that such a page is not there."""
    return Evidence("status", url, None, NO_FILE)
