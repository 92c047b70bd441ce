"""Tables as files: CSV with every cell made safe for a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from indrel.base.plain import field


def csv_bytes(heads: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """Rows as CSV (RFC 4180) in UTF-8; None is empty, and no text is taken for a formula."""
    out = io.StringIO(newline="")
    table = csv.writer(out, lineterminator="\r\n")
    table.writerow(heads)
    table.writerows([field("" if v is None else str(v)) for v in row] for row in rows)
    return out.getvalue().encode("utf-8", "backslashreplace")
