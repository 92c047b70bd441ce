"""The verdict as a spreadsheet to work through: overview, causes, findings, addresses, sitemap entries."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import chain, islice
from typing import Any

from indrel.ask.addresses import columns_of, values
from indrel.core.model import Severity, Verdict
from indrel.decide.site import Site
from indrel.plain import field
from indrel.reports import csv_table
from indrel.reports.terminal import sentence

MOST_ROWS = 1_000_000
MOST_LINKS = 2_000
"""Rows of a sheet whose cells are links: a cell with one costs ten without, and spreadsheets open no more than 65,530."""

SAMPLE = 500
"""Rows that tell how wide columns are."""


WIDEST = 80
Link = Callable[[str], str | None]
_ILLEGAL = re.compile(r"[\ufffe\uffff]")


def cell(value: object) -> Any:
    """A value as a spreadsheet may hold it: texts are never formulas, and hold no character that breaks the file."""
    if not isinstance(value, str):
        return value
    return field(_ILLEGAL.sub("\ufffd", value[:32_000])) or None


def render(verdict: Verdict, site: Site) -> bytes:
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    rows_of: dict[str, str] = {}
    findings_of: dict[str, str] = {}
    at = 2
    for number, cause in enumerate(verdict.causes, 2):
        rows_of[cause.id], findings_of[cause.id] = f"#Causes!A{number}", f"#Findings!A{at}"
        at += cause.count
    _sheet(book, "Overview", ("what", "value"), _overview(verdict), filtered=False)
    _sheet(book, "Causes", ("cause", "severity", "class", "check", "section", "findings", "share", "what", "mend", "line that does it"),
           _causes(verdict), {0: findings_of.get})  # fmt: skip
    findings = (csv_table.row(f) for f in verdict.findings[:MOST_ROWS])
    links: dict[int, Link] = {csv_table.COLUMNS.index("cause"): rows_of.get, csv_table.COLUMNS.index("url"): address}
    _sheet(book, "Findings", csv_table.COLUMNS, findings, links)
    crawlers = [c.token for c in site.crawlers]
    columns = columns_of(crawlers)
    _addresses(book, columns, (row for rows in values(site, columns) for row in rows))
    heads = ("address as listed", "sitemap", "line", "lastmod", *crawlers)
    _sheet(book, "Sitemap entries", heads, _entries(site), {0: address, 1: address})
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def address(value: str) -> str | None:
    """Where the link of a cell leads: to the address in it, if it is one."""
    return value if value.startswith(("https://", "http://")) and len(value) < 2_000 else None


def _sheet(
    book: Any,
    title: str,
    heads: Sequence[str],
    rows: Iterable[Sequence[object]],
    links: Mapping[int, Link] | None = None,
    filtered: bool = True,
) -> None:
    """One sheet with bold, frozen heads, a filter and widths by what it holds; `links` say where cells of a column lead."""
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    sheet = book.create_sheet(title)
    told = ([cell(v) for v in row] for row in rows)
    first = list(islice(told, SAMPLE))
    for place, head in enumerate(heads):
        longest = max((len(str(row[place])) for row in first if place < len(row)), default=0)
        sheet.column_dimensions[get_column_letter(place + 1)].width = min(WIDEST, max(len(head), longest) + 2)
    sheet.freeze_panes = "A2"
    top = []
    for head in heads:
        bold = WriteOnlyCell(sheet, head)
        bold.font = Font(bold=True)
        top.append(bold)
    sheet.append(top)
    count = 0
    for count, row in enumerate(chain(first, told), 1):
        if count <= MOST_LINKS:
            for place, leads in (links or {}).items():
                target = leads(row[place]) if isinstance(row[place], str) else None
                if target:
                    row[place] = _linked(sheet, row[place], target)
        sheet.append(row)
    if filtered and count:
        sheet.auto_filter.ref = f"A1:{get_column_letter(len(heads))}{count + 1}"


def _linked(sheet: Any, value: str, target: str) -> Any:
    """A cell with a link; one that begins with `#` leads to a place in the book."""
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font
    from openpyxl.worksheet.hyperlink import Hyperlink

    made = WriteOnlyCell(sheet, value)
    made.hyperlink = Hyperlink(ref="", location=target[1:], display=value) if target.startswith("#") else target
    made.font = Font(color="155E75", underline="single")
    return made


def _overview(verdict: Verdict) -> list[tuple[str, object]]:
    rows: list[tuple[str, object]] = [
        ("verdict", sentence(verdict)), ("source", str(verdict.source["location"])),
        ("from", str(verdict.source.get("started"))), ("to", str(verdict.source.get("finished"))),
        ("complete", "yes" if verdict.complete else f"no: {verdict.incomplete_because}"), ("addresses", verdict.addresses),
    ]  # fmt: skip
    rows += [(f"findings to {s.word}", verdict.count(s)) for s in Severity]
    rows += [(f"{crawler}: {state}", n) for crawler, states in verdict.states.items() for state, n in states.items()]
    rows += [(f"left out: {s.check}", s.because) for s in verdict.skipped]
    return rows + [(f"crashed: {s.check}", s.because) for s in verdict.crashed]


def _causes(verdict: Verdict) -> Iterable[Sequence[object]]:
    for one in verdict.causes:
        first = one.findings[0].evidence[0] if one.findings[0].evidence else None
        line = f"{first.where}:{first.line or ''} {first.text}" if first else ""
        share = round(one.share, 3) if one.share is not None else ""
        yield (one.id, one.severity.word + (" (accepted)" if one.accepted else ""), one.cls.value, one.check, one.section,
               one.count, share, one.findings[0].message if one.count == 1 else one.summary, one.mend, line)  # fmt: skip


def _addresses(book: Any, columns: Iterable[str], rows: Iterable[Sequence[object]]) -> None:
    """The sheet of addresses: those cells are links that hold one."""
    links: dict[int, Link] = {place: address for place, name in enumerate(columns) if name in ("url", "folds_into")}
    _sheet(book, "Addresses", tuple(columns), islice(rows, MOST_ROWS), links)


def address_book(columns: Iterable[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A spreadsheet of addresses alone."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    _addresses(book, columns, rows)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def table_book(title: str, heads: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A spreadsheet of one table, whose first column holds addresses."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    _sheet(book, title, heads, rows, {0: address})
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _entries(site: Site) -> Iterable[Sequence[object]]:
    states = ", ".join(
        f"CASE WHEN f.id IS NULL THEN 'unknown' ELSE {site.state_sql(i)} END" for i in range(len(site.crawlers))
    )
    return site.rows(
        f"""SELECT e.loc, m.url, e.line, e.lastmod, {states} FROM entry e JOIN sitemap m ON m.id = e.sitemap
        LEFT JOIN fact f ON f.id = e.address ORDER BY m.id, e.line, e.col LIMIT {MOST_ROWS}"""
    )
