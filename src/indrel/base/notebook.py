"""Answers as notebooks show them: a sentence and a table, every text escaped."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape

from indrel.base.plain import safe

MOST_ROWS = 30


def page(sentence: str, head: Sequence[str] = (), rows: Iterable[Sequence[object]] = ()) -> str:
    """A paragraph, and below it the first rows of a table."""
    given = list(rows)
    body = "".join(_row("td", row) for row in given[:MOST_ROWS])
    table = f"<table>{_row('th', head)}{body}</table>" if given else ""
    more = f"<p>and {len(given) - MOST_ROWS:,} more</p>" if len(given) > MOST_ROWS else ""
    return f"<p><b>{_cell(sentence)}</b></p>{table}{more}"


def _row(tag: str, cells: Iterable[object]) -> str:
    return f"<tr>{''.join(f'<{tag}>{_cell(one)}</{tag}>' for one in cells)}</tr>"


def _cell(value: object) -> str:
    return escape(safe("" if value is None else f"{value:,}" if isinstance(value, int) else str(value)))
