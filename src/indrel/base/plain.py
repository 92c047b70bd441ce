"""Site texts made safe for a terminal and for the cells of a table."""

from __future__ import annotations

import re
import unicodedata

UNSAFE_FIELD = (
    "(^|/)[=+@-]|[\\x00-\\x1f\\x7f-\\x{9f}\\x{200e}\\x{200f}\\x{202a}-\\x{202e}\\x{2066}-\\x{2069}"
    "\\x{061c}\\x{feff}\\x{2028}\\x{2029}]"
)
"""What `field` changes, as the database's regular expressions have it, in texts joined by `/`; they hold no surrogates."""

_SPREAD = re.compile(r"[ \t]*[\t\r\n][ \t\r\n]*")
_UNSAFE = re.compile(r"[\x00-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\u061c\ufeff\u2028\u2029\ud800-\udfff]")


def safe(text: str) -> str:
    """Control characters, marks that change the writing direction and lone surrogates become visible escapes; tabs and
    line breaks, over which templates spread their tags, become a space."""
    line = _SPREAD.sub(" ", text)
    return _UNSAFE.sub(lambda m: f"\\u{ord(m[0]):04x}" if ord(m[0]) > 255 else f"\\x{ord(m[0]):02x}", line)


def code(text: str) -> str:
    """A quoted part of a message, between backticks: it holds none itself, so that each writer finds where it ends."""
    return f"`{text.replace('`', chr(0x2CB))}`"


def width(text: str) -> int:
    """Columns that a text takes in a terminal."""
    return sum(0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in text)


def clip(text: str, columns: int) -> str:
    """A text cut to a number of columns, an ellipsis in place of what is cut."""
    if width(text) <= columns:
        return text
    kept, used = [], 0
    for character in text:
        used += width(character)
        if used > columns - 1:
            break
        kept.append(character)
    return "".join(kept) + "…"


def disarm(text: str) -> str:
    """Put an apostrophe before what a spreadsheet takes for a formula."""
    return "'" + text if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def field(text: str) -> str:
    """A site's text for a cell: no formula for a spreadsheet, nothing that drives a terminal that shows the file."""
    return safe(disarm(text))
