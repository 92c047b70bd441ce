"""A draft sitemap: what is open, wanted and final, and nothing else."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from indrel.ask import sitemap as sitemaps
from indrel.base.errors import IndrelError
from indrel.base.sqltext import quoted_list
from indrel.core.crawlers import DEFAULT, resolve
from indrel.core.model import State, Want, plural
from indrel.core.page.tokens import parse_date
from indrel.core.page.wording import W3C_DATE
from indrel.core.sitemap.write import Line, index, packed, urlsets
from indrel.decide.site import Site
from indrel.decide.sitemaps import is_part
from indrel.decide.twins import idle_parameters, open_twins
from indrel.sources.options import GatherOptions

ONE_FILE = 10_000
"""Up to so many entries stand in one file; more are split by section."""

JUST_NOW = 120
"""Seconds: a Last-Modified so near the fetch is the time of the answer, not of a change."""

_UNWANTED = {Want.HIDE: "to be hidden", Want.LOCK: "to be locked", Want.DROP: "to be dropped"}
PLAIN_KINDS = ("start", "article", "product", "listing", "category", "other", "document")


@dataclass(frozen=True)
class SitemapDraft:
    """Files by name, and what was left out: of what the sitemaps list now, and of wanted addresses, by reason."""

    files: dict[str, bytes]
    entries: int
    dated: int
    left_out: dict[str, list[str]]
    implied: bool
    undated: dict[str, int]
    """Of entries whose present date is dropped: why, and how many."""


def draft(site: Site, gzip: bool = False, split: bool = False) -> SitemapDraft:
    """Write a sitemap for the site's main host. Raises IndrelError if what was written fails its own checks.

    Wanted is what the intent states or the site implies; where it has no sitemap and the intent states
    no want to show, every open page of a plain kind, once for each content.
    """
    has_list = bool(site.one("SELECT count(*) FROM entry WHERE address IS NOT NULL"))
    states_show = any(e.want is Want.SHOW for e in site.intent.wants)
    implied = not has_list and not states_show
    kinds = quoted_list(PLAIN_KINDS)
    plain = f"kind IN ({kinds}) AND NOT (kind = 'document' AND contains(path, '?'))"
    parts = is_part(site)
    wanted = f"(NOT {parts} AND (want = '{Want.SHOW}'" + (
        f" OR (want = '{Want.ANY}' AND {plain})))" if implied else "))"
    )
    rows = site.rows(
        f"""SELECT chosen.id, want, chosen.url, section, n.last_modified, n.fetched, p.modified,
            (SELECT max(e.lastmod) FROM entry e WHERE e.address = chosen.id)
        FROM (SELECT id, want, origin || path AS url, {site.sections.sql} AS section FROM fact
            WHERE known AND NOT closed AND origin = ? AND {wanted} AND open = {site.all_mask}) chosen
        JOIN answer n ON n.address = chosen.id LEFT JOIN page p ON p.address = chosen.id ORDER BY section, chosen.url""",
        [site.base_origin],
    )
    flat = _flat_dates(site)
    again = _said_elsewhere(site, {number: want for number, want, *_ in rows}) if implied else set()
    sections: dict[str, list[Line]] = {}
    undated: dict[str, int] = {}
    for number, _, url, section, header, fetched, modified, earlier in rows:
        if number in again:
            continue
        lastmod = (
            modified
            or (earlier if earlier not in flat and _is_date(earlier) else None)
            or _header_date(header, fetched)
        )
        if earlier and lastmod is None:
            why = "nearly all entries have the same date" if earlier in flat else "they are not W3C dates"
            undated[why] = undated.get(why, 0) + 1
        sections.setdefault(section, []).append(Line(url, lastmod))
    every = [line for lines in sections.values() for line in lines]
    dated = sum(1 for line in every if line.lastmod is not None)
    left_out = _left_out(site, wanted)
    further = site.rows(
        f"SELECT origin || path AS url FROM fact WHERE known AND origin = ? AND open > 0 AND want = 'show' AND {parts} ORDER BY url",
        [site.base_origin],
    )
    if further:
        left_out["of the kinds that sitemaps leave out (numbered pages, variants)"] = [url for (url,) in further]
    if again:
        left_out["with the same content as another URL"] = [url for number, _, url, *_ in rows if number in again]
    found = SitemapDraft(_written(site, sections, gzip, split), len(every), dated, left_out, implied, undated)
    _prove(found)
    return found


def _said_elsewhere(site: Site, wants: Mapping[int, str]) -> set[int]:
    """Of addresses that nothing says are wanted, those with the same content as another that is listed."""
    found: set[int] = set()
    for twins in open_twins(site):
        if not twins.near or idle_parameters(twins.urls):
            there = [number for number in twins.ids if number in wants]
            found.update(number for number in there[1:] if wants[number] == Want.ANY)
    return found


def _is_date(text: str | None) -> bool:
    return bool(text and W3C_DATE.fullmatch(text))


def _flat_dates(site: Site) -> set[str]:
    """Dates that nearly all entries of a sitemap share: the date of the build, not of changes."""
    return {
        text
        for (text,) in site.rows(
            """SELECT lastmod FROM (SELECT sitemap, lastmod, count(*) AS same, sum(count(*)) OVER (PARTITION BY sitemap) AS dated
            FROM entry WHERE lastmod IS NOT NULL GROUP BY sitemap, lastmod) WHERE dated >= 5 AND same >= 0.9 * dated"""
        )
    }


def _header_date(header: str | None, fetched: str | None) -> str | None:
    found = parse_date(header) if header else None
    if found is None or not fetched:
        return None
    asked = datetime.fromisoformat(fetched)
    return None if (asked - found).total_seconds() < JUST_NOW else found.strftime("%Y-%m-%dT%H:%M:%SZ")


def _written(site: Site, sections: dict[str, list[Line]], gzip: bool, split: bool) -> dict[str, bytes]:
    """The files by name."""
    files: dict[str, bytes] = {}
    ending = ".xml.gz" if gzip else ".xml"

    def put(name: str, octets: bytes) -> None:
        files[name + ending] = packed(octets) if gzip else octets

    whole = sorted(line for lines in sections.values() for line in lines)
    if not split and len(whole) <= ONE_FILE:
        for octets in urlsets(whole):
            put("sitemap", octets)
        return files
    taken: set[str] = set()
    for section, lines in sections.items():
        plain = re.sub(r"[^a-z0-9]+", "-", section.lower()).strip("-") or "pages"
        name = plain if plain not in taken else f"{plain}-{len(taken)}"
        taken.add(name)
        parts = list(urlsets(lines))
        for number, octets in enumerate(parts, 1):
            put(f"sitemap-{name}" + (f"-{number}" if len(parts) > 1 else ""), octets)
    files["sitemap.xml"] = index(f"{site.base_origin}/{name}" for name in sorted(files))
    return files


def _left_out(site: Site, wanted: str) -> dict[str, list[str]]:
    """Listed or wanted addresses of the host that the draft does not hold, by reason."""
    found: dict[str, list[str]] = {}
    state = site.state_sql(len(site.crawlers) - 1)
    for url, reason, want in site.rows(
        f"""SELECT origin || path AS url, CASE WHEN {state} = 'open' AND open <> {site.all_mask} THEN 'not open for all crawlers'
            ELSE {state} END, want
        FROM fact WHERE known AND NOT closed AND origin = ? AND (listed OR {wanted})
        AND NOT ({wanted} AND open = {site.all_mask}) ORDER BY url""",
        [site.base_origin],
    ):
        why = _UNWANTED.get(want, "not wanted") if reason == State.OPEN else reason
        found.setdefault(why, []).append(url)
    elsewhere = site.rows(
        "SELECT DISTINCT e.loc FROM entry e LEFT JOIN address a ON a.id = e.address "
        "WHERE a.origin IS DISTINCT FROM ? ORDER BY e.loc",
        [site.base_origin],
    )
    if elsewhere:
        found["not on this host, or not a URL"] = [loc for (loc,) in elsewhere]
    return found


def _prove(found: SitemapDraft) -> None:
    """Read the draft again with the checks for sitemaps; nothing may be wrong with it."""
    if not found.files:
        return
    with tempfile.TemporaryDirectory() as folder:
        for name, octets in found.files.items():
            Path(folder, name).write_bytes(octets)
        first = "sitemap.xml" if "sitemap.xml" in found.files else next(iter(found.files))
        checked = sitemaps.check(str(Path(folder, first)), resolve(DEFAULT), GatherOptions(crawlers=()))
        read = sum(f.entries for f in checked.files if f.kind != "index")
        faults = [f for f in checked.findings if f.check != "sitemap-flat-dates"]
        if faults or checked.unread or read != found.entries:
            what = faults[0].message if faults else f"{read} of {found.entries} entries were read back"
            raise IndrelError(f"the draft does not pass its own checks ({what}): nothing was written")


def shown(found: SitemapDraft) -> Iterator[str]:
    """What was left out, one line per reason."""
    for reason, urls in sorted(found.left_out.items(), key=lambda pair: -len(pair[1])):
        yield f"{len(urls):,} {reason}: {urls[0]}" + (f" and {len(urls) - 1:,} more" if len(urls) > 1 else "")


def dropped(found: SitemapDraft) -> Iterator[str]:
    """Why present dates are not in the draft, one line per reason."""
    for reason, count in sorted(found.undated.items()):
        yield f"the lastmod of {plural(count, 'entry', 'entries')} is dropped, because {reason}"
