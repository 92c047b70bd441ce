"""The values of the table `meta`, by name: what each may be. A snapshot may come from a stranger."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any

from indrel.core.address import normalise
from indrel.core.intent import MAX_BYTES as LONGEST_INTENT

LONGEST = 16 << 20
"""Characters of one value."""

_TEXT = 1 << 16


def _is_text(value: Any) -> bool:
    return isinstance(value, str) and len(value) <= _TEXT


def _is_moment(value: Any) -> bool:
    try:
        return isinstance(value, str) and datetime.fromisoformat(value).tzinfo is not None
    except ValueError:
        return False


def _is_count(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and 0 <= value < 1 << 62


def _is_bool(value: Any) -> bool:
    return isinstance(value, bool)


def _is_texts(value: Any) -> bool:
    return isinstance(value, list) and all(map(_is_text, value))


def _is_counts(value: Any) -> bool:
    return isinstance(value, dict) and all(map(_is_count, value.values()))


def _is_url(value: Any) -> bool:
    return _is_text(value) and normalise(value) == value


def _is_source(value: Any) -> bool:
    return isinstance(value, dict) and set(value) == {"kind", "location"} and all(map(_is_text, value.values()))


def _is_rendered(value: Any) -> bool:
    return (
        isinstance(value, dict)
        and all(_is_text(value.get(name)) for name in ("mode", "browser"))
        and all(_is_count(value.get(name, 0)) for name in ("left", "unviewed"))
        and isinstance(value.get("groups"), list)
        and all(
            isinstance(g, list) and len(g) == 3 and _is_text(g[0]) and all(map(_is_count, g[1:]))
            for g in value["groups"]
        )
    )


def _is_homes(value: Any) -> bool:
    held: dict[str, Callable[[Any], bool]] = {
        "url": _is_url, "title": _or_none(_is_text), "heading": _or_none(_is_text), "words": _or_none(_is_count),
        "text_hash": lambda v: v is None or isinstance(v, int), "canonicals": _is_texts, "noindex": _is_bool,
    }  # fmt: skip
    return isinstance(value, list) and all(
        isinstance(one, dict) and set(one) == set(held) and all(holds(one[name]) for name, holds in held.items())
        for one in value
    )


def _is_spaces(value: Any) -> bool:
    return isinstance(value, dict) and all(
        isinstance(one, list) and len(one) == 2 and _is_count(one[0]) and _is_text(one[1]) for one in value.values()
    )


def _is_intent(value: Any) -> bool:
    return (
        isinstance(value, dict)
        and set(value) == {"where", "text"}
        and _is_text(value["where"])
        and isinstance(value["text"], str)
        and len(value["text"]) <= LONGEST_INTENT
    )


def _is_asked(value: Any) -> bool:
    """How an audit was asked for: its pace, its base, where it connected and the names of the headers that it sent."""
    held: dict[str, Callable[[Any], bool]] = {
        "rate": lambda v: isinstance(v, int | float) and not isinstance(v, bool) and 0 <= v < 1e6, "base": _or_none(_is_text),
        "connect": _is_texts, "headers": _is_texts,
    }  # fmt: skip
    return (
        isinstance(value, dict) and set(value) == set(held) and all(holds(value[name]) for name, holds in held.items())
    )


def _or_none(holds: Callable[[Any], bool]) -> Callable[[Any], bool]:
    return lambda value: value is None or holds(value)


_VALUES: dict[str, Callable[[Any], bool]] = {
    "schema": _is_count,
    "source": _is_source,
    "base": _is_url,
    "hosts": _is_texts,
    "started": _is_moment,
    "finished": _or_none(_is_moment),
    "complete": _is_bool,
    "incomplete_because": _or_none(_is_text),
    "crawlers": _is_texts,
    "notes": _is_texts,
    "user_parts": _is_texts,
    "bounded": _is_counts,
    "copies": _is_counts,
    "spaces": _is_spaces,
    "missing_views": lambda value: isinstance(value, dict) and all(isinstance(v, int) for v in value.values()),
    "variant_homes": _is_homes,
    "rendered": _is_rendered,
    "intent": _is_intent,
    "asked": _is_asked,
    "decided": _or_none(lambda value: isinstance(value, dict)),
    **dict.fromkeys(
        ("asked_twice", "follow_links", "read_barred", "as_crawlers", "with_credentials", "prepared", "located"),
        _is_bool,
    ),
}


def read_meta(rows: Iterable[tuple[Any, Any]]) -> dict[str, Any]:
    """The values by name; names that are not known are dropped. Raises ValueError for a value of the wrong kind."""
    found: dict[str, Any] = {}
    for name, written in rows:
        if name not in _VALUES:
            continue
        if not isinstance(written, str) or len(written) > LONGEST:
            raise ValueError(f"its value `{name}` is too long or no text")
        try:
            value = json.loads(written)
        except (ValueError, RecursionError) as error:
            raise ValueError(f"its value `{name}` is not JSON") from error
        if not _VALUES[name](value):
            raise ValueError(f"its value `{name}` is of the wrong kind")
        found[name] = value
    return found
