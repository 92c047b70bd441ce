"""Addresses written to files: CSV, XLSX, JSON (one object a line)."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Sequence
from pathlib import Path

from indrel.ask.addresses import HOSTILE, AddressRow, columns_of
from indrel.errors import UsageError
from indrel.files import write_whole
from indrel.plain import field


def write(
    file: Path, rows: Iterable[AddressRow], crawlers: Sequence[str], columns: Sequence[str] | None = None
) -> None:
    """Write rows as CSV, XLSX or JSON (one object a line), by the file's ending."""
    chosen = columns_of(crawlers, columns)
    ending = file.suffix.lower()
    if ending == ".xlsx":
        from indrel.reports.workbook import address_book

        content = address_book(chosen, rows)
    elif ending == ".json":
        content = "".join(json.dumps(row.as_json(), ensure_ascii=False) + "\n" for row in rows).encode(
            "utf-8", "backslashreplace"
        )
    elif ending == ".csv":
        out = io.StringIO(newline="")
        table = csv.writer(out, lineterminator="\r\n")
        table.writerow(chosen)
        plan = [(column, name in HOSTILE) for name, column in chosen.items()]
        for row in rows:
            table.writerow([field(str(v or "")) if unsafe else v for column, unsafe in plan for v in (column(row),)])
        content = out.getvalue().encode("utf-8", "backslashreplace")
    else:
        raise UsageError(f"{file}: addresses can be written as .csv, .xlsx or .json")
    write_whole(file, content)
