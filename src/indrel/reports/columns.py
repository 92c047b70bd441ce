"""Tables for a terminal."""

from __future__ import annotations

import re
from collections.abc import Iterable

from rich.text import Text

from indrel.base.plain import safe, width
from indrel.reports.terminal import Terminal

_LEAST = 12
"""Columns of a table are not cut below this."""


def table(
    terminal: Terminal, heads: Iterable[str], rows: list[list[str]], styles: dict[str, str] | None = None
) -> None:
    """Aligned columns; in a terminal the widest one wraps. `styles` colour cells by their text."""
    titles = list(heads)
    cells = [[safe(c) for c in row] for row in rows]
    widths = [max([width(t), *(width(row[i]) for row in cells)]) for i, t in enumerate(titles)]
    if terminal.cuts:
        over = sum(widths) + 2 * (len(widths) - 1) - terminal.width
        while over > 0 and max(widths) > _LEAST:
            widths[widths.index(max(widths))] -= 1
            over -= 1
    for row, style in [(titles, "bold"), *((r, "") for r in cells)]:
        parts = [_wrapped(cell, columns) for cell, columns in zip(row, widths, strict=True)]
        for line in range(max(map(len, parts))):
            text = Text()
            for i, (part, columns) in enumerate(zip(parts, widths, strict=True)):
                shown = part[line] if line < len(part) else ""
                pad = " " * (columns - width(shown) + 2) if i < len(row) - 1 else ""
                text.append(shown, style or (styles or {}).get(row[i], ""))
                text.append(pad)
            text.rstrip()
            terminal.console.print(text, soft_wrap=True)


def _wrapped(cell: str, columns: int) -> list[str]:
    """A cell in as many lines as it needs, broken behind spaces and slashes where that can be."""
    if width(cell) <= columns:
        return [cell]
    words = [
        p
        for w in re.findall(r"\S+\s*", cell)
        for p in ([w] if width(w.rstrip()) <= columns else re.findall(r"[^/]*/?", w))
    ]
    lines, line = [], ""
    for piece in words:
        while width(line) + width(piece.rstrip()) > columns:
            if line.strip():
                lines.append(line.rstrip())
                line = ""
            if width(piece) > columns:
                lines.append(piece[:columns])
                piece = piece[columns:]
            elif not line:
                break
        line += piece
    return [*lines, line] if line.strip() else lines
