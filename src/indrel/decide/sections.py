"""Sections: groups of addresses that share a beginning, found from the addresses themselves.

A first folder with something below it is a section, `/huts/*`; first folders that are numbers (years,
page ids) are one, `/<number>/*`; pages beside the start page, written with a slash at the end or not, are
`/*`. Of more folders than fit a screen the largest are kept. Nothing but addresses counts, so two audits
of one site have the same sections as long as it has the same folders.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from indrel.base.sqltext import quoted, quoted_list
from indrel.core.address import origin_of, split

MOST = 30
"""Sections of the main host at most, `/` and `/*` beside them."""

MOST_KNOWN = 20_000
"""Folders whose section is remembered."""

START = "/"
BESIDE = "/*"
NUMBER = "<number>"

FOLDERS_SQL = """SELECT folder, count(*) FROM (
    SELECT CASE WHEN regexp_matches(first, '^[0-9]+$') THEN '<number>' ELSE first END AS folder FROM (
        SELECT regexp_extract(path, '^/([^/?]+)/', 1) AS first, path FROM fact WHERE known AND origin = ?)
    WHERE first <> '' AND path <> '/' || first || '/')
GROUP BY folder ORDER BY count(*) DESC, folder"""
"""First folders of a host with something below them, the largest first; one parameter: the origin."""


class Sections:
    """The sections of one site. `folders` are the first folders that are sections of the main host."""

    def __init__(self, base_origin: str, folders: Iterable[str] = ()) -> None:
        self.base_origin = base_origin
        self.folders = frozenset(list(folders)[:MOST])
        self._known: dict[tuple[str, str], str] = {}

    @property
    def sql(self) -> str:
        """The section of an address as SQL over the columns `origin` and `path`."""
        return self.sql_of("origin")

    def sql_of(self, origin: str) -> str:
        """The section as SQL over the column `path` and an expression that gives the origin."""
        first = "regexp_extract(path, '^/([^/?]+)/', 1)"
        folder = f"CASE WHEN regexp_matches({first}, '^[0-9]+$') THEN '{NUMBER}' ELSE {first} END"
        kept = quoted_list(sorted(self.folders))
        host = f"regexp_replace(substr({origin}, strpos({origin}, '://') + 3), ':[0-9]+$', '')"
        start = "path = '/' OR starts_with(path, '/?')"
        return f"""(CASE WHEN {origin} <> {quoted(self.base_origin)} THEN '//' || {host} || CASE WHEN {start} THEN '{START}'
            WHEN {first} <> '' THEN '/' || {first} || '/*' ELSE '{BESIDE}' END
            WHEN {start} THEN '{START}'
            WHEN {first} <> '' AND {folder} IN ({kept}) THEN '/' || {folder} || '/*' ELSE '{BESIDE}' END)"""

    def of(self, url: str) -> str:
        """The section of an address; sections of other hosts begin with `//host`."""
        origin = origin_of(url)
        folder, slash, _ = url[len(origin) + 1 :].partition("?")[0].partition("/")
        key = (origin, folder + slash)  # many addresses stand in few folders
        found = self._known.get(key)
        if found is None:
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            found = self._known[key] = self._of(origin, folder, slash)
        return found

    def _of(self, origin: str, folder: str, slash: str) -> str:
        at_start = not folder and not slash
        if origin != self.base_origin:
            inside = f"/{folder}/*" if slash and folder else BESIDE
            return f"//{split(origin + '/').host}{START if at_start else inside}"
        if at_start:
            return START
        if slash and re.fullmatch("[0-9]+", folder):
            folder = NUMBER
        return f"/{folder}/*" if slash and folder in self.folders else BESIDE
