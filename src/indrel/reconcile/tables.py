"""Outside tables of any form: CSV, TSV, XLSX; which column holds addresses, and what the others tell."""

from __future__ import annotations

import csv
import gzip
import io
import re
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from indrel.core.page.tokens import nearest, parse_date
from indrel.errors import InputError

SAMPLE = 500
"""Rows looked at to learn what columns hold."""

BROKEN = (EOFError, gzip.BadGzipFile, zlib.error)
MOST_ROWS = 5_000_000
LOG_LINE = re.compile(
    rb'^(?:[\w.-]+:\d+ )?(\S+) \S+ \S+ \[([^\]\n]*)\] "[A-Z]+ (\S+)[^"\n]*" (\d{3}) \S+(?: "[^"\n]*" "([^"\n]*)")?',
    re.MULTILINE,
)
"""One line of Common or Combined Log Format: host, time, address, status, user agent."""

_ADDRESS = re.compile(r"^(https?://\S+|//\S+|/\S*|(?:[a-z0-9-]+\.)+[a-z]{2,}(?::\d+)?(?:/\S*)?)$", re.IGNORECASE)
_LISTED = re.compile(r"^((listed|indexed|submitted and indexed)\b.*|yes|true|1|valid)$", re.IGNORECASE)
_STATUS = re.compile(
    r"list|index|exclud|discover|crawl|submit|duplicat|block|not found|redirect|canonical|error|valid", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class OutsideRow:
    """One row: the address as written, whether the engine lists it, its reason and date where columns tell."""

    written: str
    listed: bool
    reason: str | None
    when: str | None


@dataclass(frozen=True)
class Columns:
    """Which columns (places) hold what; None where none does."""

    names: tuple[str, ...]
    address: int
    status: int | None
    when: int | None


def opened(path: Path) -> io.BufferedReader | gzip.GzipFile:
    """A file's octets, unpacked if it is gzip. Raises InputError."""
    try:
        file = path.open("rb")
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}") from error
    if file.peek(2)[:2] != b"\x1f\x8b":
        return file
    file.close()
    return gzip.GzipFile(path)


def is_log(path: Path) -> bool:
    """Whether a file's first lines are those of an access log."""
    try:
        with opened(path) as file:
            head = file.read(65_536)
    except BROKEN as error:
        raise InputError(f"{path} is packed with gzip, and broken: pack it again") from error
    lines = [line for line in head.split(b"\n")[:20] if line.strip()]
    return bool(lines) and sum(1 for line in lines if LOG_LINE.match(line)) > len(lines) / 2


def rows_of(path: Path) -> Iterator[Sequence[str]]:
    """The rows of a table, its head first. Raises InputError where it is none."""
    with opened(path) as file:
        head = file.read(8)
    if head.startswith(b"PK\x03\x04"):
        yield from _xlsx(path)
    elif head.startswith(b"\xd0\xcf\x11\xe0"):
        raise InputError(f"{path} is an old binary spreadsheet: save it as .xlsx or .csv")
    else:
        yield from _csv(path)


def _xlsx(path: Path) -> Iterator[Sequence[str]]:
    import openpyxl

    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except Exception as error:  # a broken file fails in many ways
        raise InputError(
            f"{path} is not a spreadsheet that can be read ({type(error).__name__}): save it again"
        ) from error
    try:
        sheet = max(book.worksheets, key=lambda s: s.max_row or 0)
        for row in sheet.iter_rows(values_only=True, max_row=MOST_ROWS):
            yield ["" if value is None else str(value) for value in row]
    finally:
        book.close()


def _csv(path: Path) -> Iterator[Sequence[str]]:
    with opened(path) as raw:
        head = raw.read(65_536)
    encoding = "utf-16" if head.startswith((b"\xff\xfe", b"\xfe\xff")) else "utf-8-sig"
    text = head.decode(encoding, "replace")
    try:
        dialect: type[csv.Dialect] | csv.Dialect = csv.Sniffer().sniff(text, delimiters=",;\t|")
    except csv.Error:
        dialect = csv.excel_tab if "\t" in text else csv.excel
    csv.field_size_limit(1 << 20)
    with opened(path) as raw, io.TextIOWrapper(raw, encoding, errors="replace", newline="") as lines:
        try:
            yield from csv.reader(lines, dialect)
        except csv.Error as error:
            raise InputError(f"{path} is not a table that can be read ({error}): save it as CSV") from error
        except BROKEN as error:
            raise InputError(f"{path} is packed with gzip, and broken: pack it again") from error


def learn(path: Path, column: str | None) -> Columns:
    """Which column holds addresses (by content, or as named), which the engine's word, which dates."""
    sample: list[Sequence[str]] = []
    for row in rows_of(path):
        if any(cell.strip() for cell in row):
            sample.append(row)
        if len(sample) > SAMPLE:
            break
    if not sample:
        raise InputError(f"{path} is empty: give an export with a column of addresses")
    head, body = sample[0], sample[1:] or sample
    width = max(len(row) for row in sample)
    names = tuple(head[i].strip() if i < len(head) else "" for i in range(width))
    columns = [[row[i].strip() for row in body if i < len(row) and row[i].strip()] for i in range(width)]
    address = _named(path, names, column) if column else _best(columns, lambda v: bool(_ADDRESS.match(v)), 0.6)
    if address is None:
        shown = ", ".join(n for n in names if n)[:200]
        raise InputError(f"{path} has no column of addresses: name one with --column (there are: {shown})")
    others = [c if i != address else [] for i, c in enumerate(columns)]
    few = [c if len(set(c)) <= 40 else [] for c in others]
    status = _best(few, lambda v: bool(_STATUS.search(v)) and not v.isdigit(), 0.8)
    when = _best([c if i != status else [] for i, c in enumerate(others)], _is_date, 0.8)
    return Columns(names, address, status, when)


def _named(path: Path, names: Sequence[str], column: str) -> int:
    lowered = [n.lower() for n in names]
    if column.lower() in lowered:
        return lowered.index(column.lower())
    if column.isdigit() and 0 < int(column) <= len(names):
        return int(column) - 1
    near = nearest(column, [n for n in names if n])
    hint = f"`{near}` was probably meant" if near else f"there are: {', '.join(n for n in names if n)[:200]}"
    raise InputError(f"{path} has no column `{column}`; {hint}")


def _best(columns: Sequence[Sequence[str]], fits: object, least: float) -> int | None:
    """The column of which the largest share fits, if that is enough."""
    assert callable(fits)
    shares = [sum(1 for v in c[:SAMPLE] if fits(v)) / len(c[:SAMPLE]) if c else 0.0 for c in columns]
    place = max(range(len(shares)), key=lambda i: shares[i], default=None)
    return place if place is not None and shares[place] >= least else None


def _is_date(text: str) -> bool:
    return len(text) >= 8 and any(c.isdigit() for c in text) and parse_date(text) is not None


def outside_rows(path: Path, columns: Columns, listed: bool) -> Iterator[OutsideRow]:
    """The rows of a table; `listed` says what the engine does with addresses where no column tells."""
    first = True
    for row in rows_of(path):
        cell = row[columns.address].strip() if columns.address < len(row) else ""
        if first:
            first = False
            if not _ADDRESS.match(cell):
                continue  # the head
        if not cell:
            continue
        said = _cell(row, columns.status)
        is_listed = bool(_LISTED.match(said)) if said else listed
        yield OutsideRow(cell, is_listed, said or None, _cell(row, columns.when) or None)


def _cell(row: Sequence[str], place: int | None) -> str:
    return row[place].strip() if place is not None and place < len(row) else ""
