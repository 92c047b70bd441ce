"""The verdict as a spreadsheet to work through: overview, causes, findings, URLs, sitemap entries."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import chain, islice
from typing import Any

from indrel.ask.addresses import columns_of, values
from indrel.base.plain import field
from indrel.core.model import Severity, Verdict
from indrel.decide.site import Site
from indrel.reports import csv_table
from indrel.reports.terminal import said_of, sentence

MOST_ROWS = 1_000_000
MOST_LINKS = 2_000
"""Rows of a sheet whose cells are links: they are held until the end, and spreadsheets open no more than 65,530."""

SAMPLE = 500
"""Rows that tell how wide columns are."""


WIDEST = 80
HEADS = {
    "by": "decided by", "where": "set by", "listed": "in sitemap", "followed": "followed links", "unfollowed": "nofollow links",
    "stated": "want is stated", "clicks": "clicks from home page", "kind_because": "why this kind",
}  # fmt: skip
"""What a person reads above a column, where it differs from the name that CSV and JSON use."""

Link = Callable[[str], str | None]
_ILLEGAL = re.compile(r"[\ufffe\uffff]")


def cell(value: object) -> Any:
    """A value as a spreadsheet may hold it: texts are never formulas, and hold no character that breaks the file."""
    if not isinstance(value, str):
        return value
    return field(_ILLEGAL.sub("\ufffd", value[:32_000])) or None


def render(verdict: Verdict, site: Site) -> bytes:
    book = _Book()
    rows_of: dict[str, str] = {}
    findings_of: dict[str, str] = {}
    at = 2
    for number, cause in enumerate(verdict.causes, 2):
        rows_of[cause.id], findings_of[cause.id] = f"internal:Causes!A{number}", f"internal:Findings!A{at}"
        at += cause.count
    book.sheet("Overview", ("what", "value"), _overview(verdict), filtered=False)
    book.sheet("Causes", ("cause", "severity", "class", "check", "section", "findings", "share", "problem", "fix", "set by"),
           _causes(verdict), {0: findings_of.get})  # fmt: skip
    findings = (csv_table.row(f) for f in verdict.findings[:MOST_ROWS])
    links: dict[int, Link] = {csv_table.COLUMNS.index("cause"): rows_of.get, csv_table.COLUMNS.index("url"): address}
    book.sheet("Findings", csv_table.COLUMNS, findings, links)
    crawlers = [c.token for c in site.crawlers]
    columns = columns_of(crawlers)
    _addresses(book, columns, (row for rows in values(site, columns) for row in rows))
    heads = ("URL as listed", "sitemap", "line", "lastmod", *crawlers)
    book.sheet("Sitemap entries", heads, _entries(site), {0: address, 1: address})
    return book.octets()


def address(value: str) -> str | None:
    """Where the link of a cell leads: to the address in it, if it is one."""
    return value if value.startswith(("https://", "http://")) and len(value) < 2_000 else None


class _Book:
    """A workbook that is written as its rows come: none of them is held."""

    def __init__(self) -> None:
        import xlsxwriter

        self._out = io.BytesIO()
        self._book = xlsxwriter.Workbook(self._out, {"constant_memory": True})
        self._bold = self._book.add_format({"bold": True})
        self._link = self._book.add_format({"font_color": "#155E75", "underline": 1})

    def sheet(
        self,
        title: str,
        heads: Sequence[str],
        rows: Iterable[Sequence[object]],
        links: Mapping[int, Link] | None = None,
        filtered: bool = True,
    ) -> None:
        """One sheet with bold, frozen heads, a filter and widths by what it holds; `links` say where cells of a column lead."""
        sheet = self._book.add_worksheet(title)
        heads = [HEADS.get(head, head.replace("_", " ")) for head in heads]
        told = ([cell(v) for v in row] for row in rows)
        first = list(islice(told, SAMPLE))
        for place, head in enumerate(heads):
            longest = max((len(str(row[place])) for row in first if place < len(row)), default=0)
            sheet.set_column(place, place, min(WIDEST, max(len(head), longest) + 2))
        sheet.freeze_panes(1, 0)
        sheet.write_row(0, 0, heads, self._bold)
        count = 0
        for count, row in enumerate(chain(first, told), 1):
            for place, value in enumerate(row):
                if isinstance(value, str):
                    leads = links.get(place) if links and count <= MOST_LINKS else None
                    target = leads(value) if leads else None
                    if target:
                        sheet.write_url(count, place, target, self._link, value)
                    else:
                        sheet.write_string(count, place, value)
                elif isinstance(value, bool):
                    sheet.write_boolean(count, place, value)
                elif value is not None:
                    sheet.write_number(count, place, value)
        if filtered and count:
            sheet.autofilter(0, 0, count, len(heads) - 1)

    def octets(self) -> bytes:
        self._book.close()
        return self._out.getvalue()


def _overview(verdict: Verdict) -> list[tuple[str, object]]:
    rows: list[tuple[str, object]] = [
        ("verdict", sentence(verdict)), ("source", str(verdict.source["location"])),
        ("from", str(verdict.source.get("started"))), ("to", str(verdict.source.get("finished"))),
        ("complete", "yes" if verdict.complete else f"no: {verdict.incomplete_because}"), ("URLs", verdict.addresses),
    ]  # fmt: skip
    rows += [(f"findings: {s.word}", verdict.count(s)) for s in Severity]
    rows += [(f"{crawler}: {state}", n) for crawler, states in verdict.states.items() for state, n in states.items()]
    rows += [(f"skipped: {s.check}", s.because) for s in verdict.skipped]
    return rows + [(f"crashed: {s.check}", s.because) for s in verdict.crashed]


def _causes(verdict: Verdict) -> Iterable[Sequence[object]]:
    for one in verdict.causes:
        first = one.findings[0].evidence[0] if one.findings[0].evidence else None
        line = f"{first.where}:{first.line or ''} {first.text}" if first else ""
        share = round(one.share, 3) if one.share is not None else ""
        yield (one.id, one.severity.word + (" (accepted)" if one.accepted else ""), one.cls.value, one.check, one.section,
               one.count, share, said_of(one), one.mend, line)  # fmt: skip


def _addresses(book: _Book, columns: Iterable[str], rows: Iterable[Sequence[object]]) -> None:
    """The sheet of URLs; the cells with a URL are links."""
    links: dict[int, Link] = {place: address for place, name in enumerate(columns) if name in ("url", "folds_into")}
    book.sheet("URLs", tuple(columns), islice(rows, MOST_ROWS), links)


def address_book(columns: Iterable[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A spreadsheet with only the URLs."""
    book = _Book()
    _addresses(book, columns, rows)
    return book.octets()


def table_book(title: str, heads: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A spreadsheet of one table, whose first column holds URLs."""
    book = _Book()
    book.sheet(title, heads, rows, {0: address})
    return book.octets()


def overview_book(
    overview: Iterable[Sequence[object]], sheets: Iterable[tuple[str, Sequence[str], Iterable[Sequence[object]]]]
) -> bytes:
    """A spreadsheet that begins with a list of what is in it; each sheet is its title, its heads and its rows."""
    book = _Book()
    book.sheet("Overview", ("what", "value"), overview, filtered=False)
    for title, heads, rows in sheets:
        book.sheet(title, heads, rows)
    return book.octets()


def _entries(site: Site) -> Iterable[Sequence[object]]:
    states = ", ".join(
        f"CASE WHEN f.id IS NULL THEN 'unknown' ELSE {site.state_sql(i)} END" for i in range(len(site.crawlers))
    )
    return site.rows(
        f"""SELECT e.loc, m.url, e.line, e.lastmod, {states} FROM entry e JOIN sitemap m ON m.id = e.sitemap
        LEFT JOIN fact f ON f.id = e.address ORDER BY m.id, e.line, e.col LIMIT {MOST_ROWS}"""
    )
