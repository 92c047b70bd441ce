"""What an audit does not know, and why: such findings and addresses are neither fixed nor worse, neither gone nor new."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from indrel.base.sqltext import quoted_list
from indrel.checks import checks as catalogue
from indrel.checks.catalogue import Need
from indrel.checks.run import why_skipped
from indrel.core.address import made_up_folder, origin_of
from indrel.core.answers import status_text
from indrel.core.model import Finding
from indrel.core.robots import Access
from indrel.decide.site import Site

UNKNOWN = "NOT read OR status IS NULL OR status >= 500 OR status IN (408, 425, 429)"
"""Whether nothing is known of an address, over the columns of `fact`: it was not read, or did not answer this time."""


DOWN_SHARE = 0.9
"""Share of a host's pages without a usable response from which on the host counts as down."""


def down(site: Site) -> set[str]:
    """The hosts that were down: no response, 5xx or 429 for nearly every page that was requested."""
    rows = site.rows(
        f"""SELECT origin FROM fact WHERE site AND read GROUP BY origin
        HAVING count(*) FILTER (status IS NULL OR status >= 500 OR status IN (408, 425, 429)) >= {DOWN_SHARE} * count(*)"""
    )
    return {origin for (origin,) in rows}


def unknown_state_sql(site: Site) -> str:
    """Whether the state of a URL is not known, over the columns of `fact`.

    A page that returned 5xx or nothing, and did so again when it was requested once more at the end of the crawl, on a host
    that otherwise responds, is known to be broken, although nothing is known of its content.
    """
    if not site.meta.get("asked_twice"):
        return f"({UNKNOWN})"
    hosts = quoted_list(["", *sorted(down(site))])
    return f"(({UNKNOWN}) AND NOT (read AND (status IS NULL OR status >= 500) AND origin NOT IN ({hosts})))"


def rests_on(finding: Finding) -> list[str]:
    """What has to be read again to know whether a finding still holds: its subject, and where its evidence stands."""
    return [finding.address, *(e.where for e in finding.evidence if "://" in e.where)]


def _is_canonical(finding: Finding) -> bool:
    """Whether it is of what a page's own tag has as its canonical."""
    return bool(finding.evidence) and finding.evidence[0].kind == "canonical"


def unreachable(site: Site) -> set[str]:
    """The hosts whose robots.txt could not be had: crawlers keep away, and nothing is known of what it says."""
    return {host.origin for host in site.robots.values() if host.known and host.access is Access.ALL_BARRED}


class Unasked:
    """Why an audit says nothing of a check at an address: it was left out, or the page was not looked at with the browser."""

    def __init__(self, site: Site) -> None:
        self._left_out = {id: why for id, one in catalogue().items() if (why := why_skipped(one, site))}
        looked = "SELECT a.origin || a.path FROM render r JOIN address a ON a.id = r.address WHERE r.outcome <> 'none'"
        self._looked = {url for (url,) in site.rows(looked)} if site.holds("render") else set()

    def why(self, check: str, url: str) -> str | None:
        """The reason; None where the audit would have found it."""
        if because := self._left_out.get(check):
            return f"{check} was skipped: {because}"
        rendered = check in catalogue() and Need.RENDERED in catalogue()[check].needs
        return "not rendered this time" if rendered and url not in self._looked else None


def rests_on_all(check: str) -> str | None:
    """Why some addresses asked for again do not tell that a finding still holds: any page may do away with it."""
    one = catalogue().get(check)
    of_links = one is not None and one.topic == "links" and Need.COMPLETE in one.needs
    return "other pages may link to it now and were not read again: audit the site again" if of_links else None


class Unreadable:
    """Why an address could not be read in an audit; None where it was read, or is known not to be there any more."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._shut = {
            origin: f"robots.txt: {status_text(site.robots[origin].status, site.robots[origin].error)}"
            for origin in unreachable(site)
        }
        self.whole = self._nothing_read()

    def _nothing_read(self) -> str | None:
        """Why an address that an audit does not know may be there anyway; None where it would have been found."""
        if not self.site.traits.is_whole:
            return self.site.traits.lacks
        if not self.site.complete:
            return f"not read: {self.site.meta.get('incomplete_because') or 'the audit is incomplete'}"
        start = self.site.rows(
            f"SELECT read, status, error, barred FROM fact WHERE id = ? AND ({UNKNOWN})", [self.site.front_id]
        )
        if not start:
            return None
        read, status, error, barred = start[0]
        if because := self._shut.get(self.site.base_origin):
            return because
        return f"the home page could not be read: {status_text(status, error) if read else 'blocked' if barred else 'not requested'}"

    def of(self, findings: Iterable[Finding], there: Callable[[str], str]) -> Callable[[Finding], str | None]:
        """Why it cannot be known whether these findings hold; `there` gives the address that stands for one in this audit."""
        told = list(findings)
        because = self.why(there(url) for finding in told for url in rests_on(finding))
        named = self._canonicals(there(f.url) for f in told if _is_canonical(f))

        def why(finding: Finding) -> str | None:
            asked = rests_on(finding)
            as_it_is = _is_canonical(finding) and there(finding.url) == finding.url
            if as_it_is and (finding.url, finding.evidence[0].text) not in named:
                asked = asked[:1]  # already the page names something else: what the other address says is of no weight
            return next((reason for url in asked if (reason := because.get(there(url)))), None)

        return why

    def _canonicals(self, urls: Iterable[str]) -> set[tuple[str, str]]:
        """What some pages have as their canonical, as is written."""
        asked = """SELECT a.origin || a.path AS url, c.text FROM canonical c JOIN address a ON a.id = c.address
            WHERE url IN (SELECT unnest(?::VARCHAR[]))"""
        chosen = sorted(set(urls))
        return set(self.site.rows(asked, [chosen])) if chosen else set()

    def why(self, urls: Iterable[str]) -> dict[str, str]:
        """Of some addresses the ones that could not be read, with the reason."""
        chosen = sorted({u for u in urls if "://" in u})
        rows = {
            row[0]: row[1:]
            for row in self.site.rows(
                f"""SELECT origin || path AS url, read, status, error, barred, {UNKNOWN} AS unseen FROM fact
                WHERE url IN (SELECT unnest(?::VARCHAR[]))""",
                [chosen],
            )
        }
        files = {
            url: (status, error)
            for url, status, error in self.site.rows(
                "SELECT url, status, fetch_error FROM sitemap UNION ALL SELECT url, final_status, NULL FROM probe"
            )
        }
        found = {}
        for url in chosen:
            reason = self._robots(url)
            if reason is None:
                reason = self._page(url, rows.get(url), files.get(url))
            if reason:
                found[url] = reason
        return found

    def _robots(self, url: str) -> str | None:
        """Why the rules of a host are not known; empty where they are, None where the address is no robots.txt that was asked for."""
        host = self.site.robots.get(origin_of(url))
        if not url.endswith("/robots.txt") or host is None or not host.known:
            return None
        return status_text(host.status, host.error) if host.access is Access.ALL_BARRED else ""

    def _page(self, url: str, row: tuple[Any, ...] | None, file: tuple[int | None, str | None] | None) -> str | None:
        if file is not None:  # a sitemap, or an address that was made up
            return None if file[0] == 200 or (file[0] and 400 <= file[0] < 500) else status_text(*file)
        if row is None:
            return self.whole if made_up_folder(url) is None else "no URL that cannot exist was requested"
        read, status, error, barred, unseen = row
        if not unseen:
            return None
        if read:
            return status_text(status, error)
        if barred:
            return self._shut.get(origin_of(url)) or "blocked, so it was not read"
        return self.whole or "not read"
