"""Outside tables of any form: CSV, TSV, XLSX; which column holds addresses, and what the others tell."""

from __future__ import annotations

import csv
import gzip
import io
import re
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from indrel.ask.reconcile.log_lines import looks_like_log
from indrel.ask.reconcile.words import means_listed, says_not_listed
from indrel.base.errors import InputError
from indrel.base.files import begins_snapshot
from indrel.base.plain import code
from indrel.core.page.tokens import nearest, parse_date

SAMPLE = 500
"""Rows looked at to learn what columns hold."""

BROKEN = (EOFError, gzip.BadGzipFile, zlib.error)
MOST_ROWS = 5_000_000
MOST_COLUMNS = 300
"""Columns of a sheet that are read: one cell far to the right would make every row as wide."""

_ADDRESS = re.compile(r"^(https?://\S+|//\S+|/\S*|(?:[a-z0-9-]+\.)+[a-z]{2,}(?::\d+)?(?:/\S*)?)$", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class OutsideRow:
    """One row: the address as written, whether the engine lists it, its word, reason and date where columns tell."""

    written: str
    listed: bool | None
    """As its status word says, or as the whole table is taken; None where nothing tells."""

    said: str | None
    when: str | None
    reason: str | None = None


@dataclass(frozen=True)
class Columns:
    """Which columns (places) hold what; None where none does."""

    names: tuple[str, ...]
    address: int
    status: int | None
    when: int | None
    skip: int = 0
    """Rows before the first with an address: titles and the head."""

    all_listed: bool | None = None
    """What the whole table is taken for where no column tells; None where one does, or nothing tells."""

    told_by: str = ""
    """What says so."""

    values: tuple[str, ...] = ()
    """Values of the status column that were named to mean listed."""

    reason: int | None = None
    """The column in which the engine gives its reason."""

    sheet: str = ""
    """The sheet of a workbook that was read."""


LONGEST_LINE = 1 << 20
MOST_UNPACKED = 300 << 20
"""Bytes that a workbook may unpack to: a sheet of a million rows takes less."""


def opened(path: Path) -> io.BufferedReader | gzip.GzipFile:
    """A file's bytes, unpacked if it is gzip. Raises InputError."""
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
    return looks_like_log(head)


def rows_of(path: Path) -> Iterator[Sequence[str]]:
    """The rows of a table, its head first. Raises InputError where it is none."""
    with opened(path) as file:
        head = file.read(4096)
    if head.startswith(b"PK\x03\x04"):
        yield from _xlsx(path)
    elif begins_snapshot(head):
        raise InputError(
            f"{path} is a snapshot, not a table: give the engine's export or a log (compare is for two snapshots)"
        )
    elif not head.startswith((b"\xff\xfe", b"\xfe\xff")) and b"\0" in head:
        raise InputError(f"{path} is not a table: give a CSV, TSV or XLSX export, or an access log")
    elif head.startswith(b"\xd0\xcf\x11\xe0"):
        raise InputError(f"{path} is an old binary spreadsheet: save it as .xlsx or .csv")
    else:
        yield from _csv(path)


def _xlsx(path: Path) -> Iterator[Sequence[str]]:
    import openpyxl

    try:
        with zipfile.ZipFile(path) as packed:
            size = sum(one.file_size for one in packed.infolist())
        if size > MOST_UNPACKED:
            raise InputError(
                f"{path} unpacks to {size >> 20:,} MiB, more than a table of URLs needs: export it as CSV, or in parts"
            )
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except InputError:
        raise
    except Exception as error:  # a broken file fails in many ways
        raise InputError(
            f"{path} is not a spreadsheet that can be read ({type(error).__name__}): save it again"
        ) from error
    try:
        sheet = _sheet(book)
        sheet.reset_dimensions()
        for row in sheet.iter_rows(values_only=True, max_row=MOST_ROWS, max_col=MOST_COLUMNS):
            yield ["" if value is None else str(value) for value in row]
    finally:
        book.close()


def _sheet(book: Any) -> Any:
    """The visible sheet with most addresses; a hidden one only if no visible one has any."""
    counted = {sheet: _addresses_in(sheet) for sheet in book.worksheets}
    seen = [sheet for sheet in counted if sheet.sheet_state == "visible" and counted[sheet]]
    return max(seen or counted, key=lambda sheet: counted[sheet])


def _sheet_name(path: Path) -> str:
    """The name of the sheet that is read; empty for a table that is no workbook with several."""
    with opened(path) as file:
        if not file.read(4).startswith(b"PK\x03\x04"):
            return ""
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    try:
        return str(_sheet(book).title) if len(book.worksheets) > 1 else ""
    finally:
        book.close()


def _addresses_in(sheet: Any) -> int:
    """How many addresses the first rows of a sheet hold; a workbook need not say how large its sheets are."""
    sheet.reset_dimensions()
    rows = sheet.iter_rows(values_only=True, max_row=SAMPLE, max_col=MOST_COLUMNS)
    return sum(1 for row in rows for value in row if isinstance(value, str) and _ADDRESS.match(value.strip()))


def _csv(path: Path) -> Iterator[Sequence[str]]:
    with opened(path) as raw:
        head = raw.read(65_536)
    encoding = "utf-16" if head.startswith((b"\xff\xfe", b"\xfe\xff")) else "utf-8-sig"
    text = head.decode(encoding, "replace")
    delimiter = _delimiter(text)
    csv.field_size_limit(1 << 20)
    with opened(path) as raw, io.TextIOWrapper(raw, encoding, errors="replace", newline="") as lines:
        try:
            yield from csv.reader(_bounded(path, lines), delimiter=delimiter)
        except csv.Error as error:
            raise InputError(f"{path} is not a table that can be read ({error}): save it as CSV") from error
        except BROKEN as error:
            raise InputError(f"{path} is packed with gzip, and broken: pack it again") from error


def _bounded(path: Path, lines: io.TextIOWrapper) -> Iterator[str]:
    """Lines, none so long that memory is the limit."""
    number = 0
    while line := lines.readline(LONGEST_LINE):
        number += 1
        if len(line) == LONGEST_LINE:
            raise InputError(f"{path}:{number}: a line of more than {LONGEST_LINE:,} characters: this is no table")
        yield line


def _delimiter(text: str) -> str:
    """What separates columns: what stands in the lines with addresses, and in the one above the first of them."""
    lines = [line for line in text.splitlines()[:SAMPLE] if line.strip()]
    told = [n for n, line in enumerate(lines) if "://" in line or line.lstrip('"').startswith("/")]
    if not told:
        return next((d for d in "\t;,|" if d in text), ",")
    head = lines[told[0] - 1] if told[0] else ""

    def weight(delimiter: str) -> tuple[bool, int]:
        return delimiter in head, sum(1 for n in told if delimiter in lines[n])

    best = max("\t;,|", key=weight)
    return best if weight(best)[1] else ","


def learn(
    path: Path,
    column: str | None,
    status_column: str | None = None,
    listed_values: Sequence[str] = (),
    all_listed: bool | None = None,
) -> Columns:
    """Which column holds addresses (by content, or as named), which the engine's word, which dates.

    Raises InputError where a column seems to hold the engine's word and is not understood: nothing is guessed.
    """
    sample: list[Sequence[str]] = []
    for row in rows_of(path):
        if any(cell.strip() for cell in row) or sample:
            sample.append(row)
        if len(sample) > SAMPLE:
            break
    if not any(cell.strip() for row in sample for cell in row):
        raise InputError(f"{path} is empty: give an export with a column of URLs")
    width = max(len(row) for row in sample)
    head = _head(sample, column)
    names = tuple(sample[head - 1][i].strip() if head and i < len(sample[head - 1]) else "" for i in range(width))
    body = sample[head:]
    columns = [[row[i].strip() for row in body if i < len(row) and row[i].strip()] for i in range(width)]
    address = _named(path, names, column) if column else _best(columns, lambda v: bool(_ADDRESS.match(v)), 0.6)
    if address is None:
        shown = ", ".join(n for n in names if n)[:200]
        raise InputError(f"{path} has no column of URLs: name one with --column (there are: {shown})")
    others = [c if i != address else [] for i, c in enumerate(columns)]
    titles = " ".join(cell for row in sample[: max(head - 1, 0)] for cell in row)
    when = _best(others, _is_date, 0.8)
    status = _named(path, names, status_column) if status_column else _status(names, others, when)
    sheet = _sheet_name(path)
    reason = _reason(names, others, (status, when))
    if status is not None:
        _understood(path, names[status], others[status], listed_values)
        return Columns(names, address, status, when, head, None, "", tuple(listed_values), reason, sheet)
    told = "" if all_listed is None else "--indexed" if all_listed else "--not-indexed"
    if all_listed is None:
        title = next(
            (what for what, text in (("its title", titles), ("its name", path.stem)) if says_not_listed(text)), ""
        )
        odd = _odd(names, others, when, reason) if not title else None
        if odd is not None:
            raise InputError(_ask(path, names[odd], others[odd]))
        shown = next((name for name in names if _SHOWN_NAME.search(name)), "")
        all_listed, told = (False, title) if title else (True, f"its column {code(shown)}") if shown else (None, "")
    return Columns(names, address, None, when, head, all_listed, told, (), reason, sheet)


def _head(sample: Sequence[Sequence[str]], column: str | None) -> int:
    """How many rows stand before the first that holds an address: titles, cover lines, and the head."""
    first = next((n for n, row in enumerate(sample) if any(_ADDRESS.match(c.strip()) and "." in c for c in row)), None)
    if first is None:
        first = next((n for n, row in enumerate(sample) if any(_ADDRESS.match(c.strip()) for c in row)), 1)
    if column and not column.isdigit():
        named = next(
            (n for n, row in enumerate(sample[:50]) if column.lower() in (c.strip().lower() for c in row)), None
        )
        return first if named is None else named + 1
    return first


_STATUS_NAME = re.compile(
    r"stat|cover|index|list|reason|grund|zustand|[ée]tat|raison|estado|motivo|razón|couverture|abdeckung|indizier",
    re.IGNORECASE,
)
_FEW_VALUES = 40
_SHOWN_VALUES = 6


def _status(names: Sequence[str], columns: Sequence[Sequence[str]], when: int | None) -> int | None:
    """The column whose words are understood as listed or not; numbers and dates are no words, but 0 and 1 of a column
    that is named for it."""

    def holds_words(place: int, column: Sequence[str]) -> bool:
        if place == when or len(set(column)) > _FEW_VALUES:
            return False
        numbers = all(v.replace(".", "").isdigit() for v in column)
        return not numbers or (set(column) <= {"0", "1"} and bool(_STATUS_NAME.search(names[place])))

    few = [c if holds_words(i, c) else [] for i, c in enumerate(columns)]
    return _best(few, lambda v: means_listed(v) is not None, 0.8)


_SHOWN_NAME = re.compile(
    r"^(clicks?|impressions?|klicks|impressionen|clics?|clics? totaux|clicks totais|impresiones)$", re.IGNORECASE
)
"""Columns of what an engine has shown: it has these URLs."""

_REASON_NAME = re.compile(
    r"reason|grund|motiv|raison|raz[óo]n|why|because|reden|powód|причина|理由|原因|orsak|neden", re.IGNORECASE
)


def _reason(names: Sequence[str], columns: Sequence[Sequence[str]], taken: Sequence[int | None]) -> int | None:
    """The column that gives the engine's reasons, by its name."""
    named = (
        i for i, (name, column) in enumerate(zip(names, columns, strict=True)) if column and _REASON_NAME.search(name)
    )
    return next((place for place in named if place not in taken), None)


def _is_word(value: str) -> bool:
    return not (_is_number(value) or _is_date(value) or _ADDRESS.match(value))


def _is_number(value: str) -> bool:
    return not re.search(r"[^\W\d_]", value)


def _odd(names: Sequence[str], columns: Sequence[Sequence[str]], when: int | None, reason: int | None) -> int | None:
    """A column that may hold the engine's word, though no word of it is understood: it is named for it, or has few values that
    are words and come again."""
    found = []
    for place, (name, column) in enumerate(zip(names, columns, strict=True)):
        words = {v for v in column if _is_word(v)}
        if place == when or not words or len(set(column)) > _FEW_VALUES:
            continue
        is_named = bool(_STATUS_NAME.search(name)) and place != reason
        if is_named or (len(words) == len(set(column)) and len(words) <= max(1, len(column) // 2)):
            found.append((not is_named, place == reason, place))
    return min(found)[2] if found else None


def _understood(path: Path, name: str, column: Sequence[str], listed: Sequence[str]) -> None:
    """Refuse a status column of which a word is not understood."""
    if listed:
        known = {v.lower() for v in column}
        odd = [v for v in listed if v.lower() not in known]
        if odd:
            raise InputError(f"{path}: no row of {code(name)} says {code(odd[0])} (there are: {_values(column)})")
    elif any(means_listed(v) is None for v in column):
        raise InputError(_ask(path, name, column))


def _ask(path: Path, name: str, column: Sequence[str]) -> str:
    unknown = [v for v in column if means_listed(v) is None]
    return (
        f"{path}: what {code(name)} means is not understood ({_values(unknown)}): say --status-column '{name}' and --listed VALUE "
        "for each value that means indexed, or --indexed or --not-indexed for the whole table"
    )


def _values(column: Sequence[str]) -> str:
    values = list(dict.fromkeys(column))
    more = f" and {len(values) - _SHOWN_VALUES} more" if len(values) > _SHOWN_VALUES else ""
    return ", ".join(f"{code(v[:60])}" for v in values[:_SHOWN_VALUES]) + more


def _named(path: Path, names: Sequence[str], column: str) -> int:
    lowered = [n.lower() for n in names]
    if column.lower() in lowered:
        return lowered.index(column.lower())
    if column.isdigit() and 0 < int(column) <= len(names):
        return int(column) - 1
    near = nearest(column, [n for n in names if n])
    hint = f"did you mean {code(near)}?" if near else f"there are: {', '.join(n for n in names if n)[:200]}"
    raise InputError(f"{path} has no column {code(column)}; {hint}")


def _best(columns: Sequence[Sequence[str]], fits: object, least: float) -> int | None:
    """The column of which the largest share fits, if that is enough."""
    assert callable(fits)
    shares = [sum(1 for v in c[:SAMPLE] if fits(v)) / len(c[:SAMPLE]) if c else 0.0 for c in columns]
    place = max(range(len(shares)), key=lambda i: shares[i], default=None)
    return place if place is not None and shares[place] >= least else None


_DAY = re.compile(r"[0-9]{1,4}[./-][0-9]{1,2}[./-][0-9]{1,4}(?:[ T,]+[0-9]{1,2}:[0-9]{2}\S*)?(?: [AP]M)?")


def _is_date(text: str) -> bool:
    if _DAY.fullmatch(text):
        return True
    return len(text) >= 8 and any(c.isdigit() for c in text) and parse_date(text) is not None


def outside_rows(path: Path, columns: Columns) -> Iterator[OutsideRow]:
    """The rows of a table, titles and head left out."""
    blank = True
    skipped = 0
    for row in rows_of(path):
        blank = blank and not any(cell.strip() for cell in row)
        if blank:
            continue
        if skipped < columns.skip:
            skipped += 1
            continue
        cell = row[columns.address].strip() if columns.address < len(row) else ""
        if not cell:
            continue
        said = _cell(row, columns.status)
        is_listed = bool(means_listed(said, columns.values)) if columns.status is not None else columns.all_listed
        yield OutsideRow(
            cell, is_listed, said or None, _cell(row, columns.when) or None, _cell(row, columns.reason) or None
        )


def _cell(row: Sequence[str], place: int | None) -> str:
    return row[place].strip() if place is not None and place < len(row) else ""
