"""Addresses written to files: CSV, XLSX, JSON (one object a line)."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from indrel.ask.addresses import Filters, columns_of, listed, values
from indrel.base.errors import UsageError
from indrel.base.files import write_whole
from indrel.decide.site import Site
from indrel.reports.csv_table import pieces


def write(
    file: Path, site: Site, filters: Filters | None = None, sort: str | None = None, chosen: Sequence[str] | None = None
) -> None:  # fmt: skip
    """Write addresses as CSV, XLSX or JSON (one object a line), by the file's ending, as they are read."""
    columns = columns_of([c.token for c in site.crawlers], chosen)
    ending = file.suffix.lower()
    if ending == ".xlsx":
        from indrel.reports.workbook import address_book

        write_whole(file, address_book(columns, (row for rows in values(site, columns, filters, sort) for row in rows)))
    elif ending == ".json":
        lines = (json.dumps(row.as_json(), ensure_ascii=False) + "\n" for row in listed(site, filters, sort))
        write_whole(file, (line.encode("utf-8", "backslashreplace") for line in lines))
    elif ending == ".csv":
        write_whole(file, pieces(columns, values(site, columns, filters, sort)))
    else:
        raise UsageError(f"{file}: URLs can be written as .csv, .xlsx or .json")
