"""Values as SQL text, for the few places where a parameter cannot stand."""

from __future__ import annotations

from collections.abc import Iterable


def quoted(text: str) -> str:
    """A text as an SQL string literal, its quotes included."""
    return "'" + text.replace("'", "''") + "'"


def identifier(name: str) -> str:
    """A name as an SQL identifier, its quotes included."""
    return '"' + name.replace('"', '""') + '"'


def quoted_list(texts: Iterable[str]) -> str:
    """Texts as the inside of `IN (...)`; an empty list matches nothing."""
    return ", ".join(quoted(t) for t in texts) or "NULL"
