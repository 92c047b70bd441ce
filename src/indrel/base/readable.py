"""URLs as people read them: letters of other scripts decoded, whatever may deceive left encoded, as browsers do."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

_ENCODED = re.compile(r"(?:%[89A-Fa-f][0-9A-Fa-f])+")
_HOST = re.compile(r"xn--[a-z0-9-]+", re.IGNORECASE)
_OWN_SCRIPTS = ("ARABIC", "ARMENIAN", "BENGALI", "CJK", "DEVANAGARI", "ETHIOPIC", "GEORGIAN", "GUJARATI", "GURMUKHI", "HANGUL",
                "HEBREW", "HIRAGANA", "KANNADA", "KATAKANA", "KHMER", "LAO", "MALAYALAM", "MYANMAR", "SINHALA", "TAMIL", "TELUGU",
                "THAI", "TIBETAN")  # fmt: skip
"""Scripts whose letters nobody takes for Latin ones."""

_CYRILLIC_ALONE = frozenset(
    "\u0431\u0434\u0436\u0438\u0439\u043b\u043f\u0444\u0446\u0447\u0448\u0449\u044a\u044b\u044d\u044e\u044f"
)
_GREEK_ALONE = frozenset("\u03b2\u03b3\u03b4\u03b6\u03b8\u03bb\u03bc\u03be\u03c0\u03c3\u03c6\u03c7\u03c8\u03c9")
"""Letters by which a word is seen not to be Latin."""


def readable(url: str) -> str:
    """A URL, or a part of one, for people: the host in its own script, letters of the path decoded. It means the same URL."""
    if "xn--" not in url.lower() and "%" not in url:
        return url
    scheme, slashes, rest = url.partition("://")
    host, slash, path = rest.partition("/") if slashes else ("", "", scheme)
    return scheme * bool(slashes) + slashes + readable_host(host) + slash + _ENCODED.sub(_letters, path)


def readable_host(host: str) -> str:
    """A host's name in its own script."""
    return _HOST.sub(lambda m: _label(m[0].lower()), host)


def _letters(match: re.Match[str]) -> str:
    """Encoded bytes as letters, marks and numbers where they are; anything else (spaces, controls, direction marks) stays encoded."""
    try:
        text = bytes.fromhex(match[0].replace("%", "")).decode("utf-8")
    except UnicodeDecodeError:
        return match[0]
    letters = "".join(c for c in text if unicodedata.category(c)[0] in "LM")
    if not _deceives_nobody(letters):
        return match[0]
    return "".join(c if unicodedata.category(c)[0] in "LMN" else "".join(f"%{b:02X}" for b in c.encode()) for c in text)


@lru_cache(maxsize=4096)
def _label(label: str) -> str:
    """A host's label in its own script, if it is of one script and no letter looks like one of another."""
    try:
        text = label.removeprefix("xn--").encode("ascii").decode("punycode")
    except UnicodeError:
        return label
    letters = "".join(c for c in text if not (c.isascii() and (c.isdigit() or c == "-")))
    return text if unicodedata.normalize("NFC", text) == text and _deceives_nobody(letters) else label


def _deceives_nobody(text: str) -> bool:
    """Whether letters are of one script, and are not all like those of another."""
    scripts = {_script(c) for c in text}
    if (
        scripts <= {"LATIN"}
        or (len(scripts) == 1 and scripts <= {*_OWN_SCRIPTS})
        or scripts <= {"CJK", "HIRAGANA", "KATAKANA"}
    ):
        return True
    seen = {"CYRILLIC": _CYRILLIC_ALONE, "GREEK": _GREEK_ALONE}
    return len(scripts) == 1 and not seen.get(min(scripts), frozenset()).isdisjoint(text)


def _script(character: str) -> str:
    """The script of a letter, by the first word of its name; empty for what is no letter or mark of common use."""
    if unicodedata.category(character)[0] not in "LM":
        return ""
    name = unicodedata.name(character, "")
    if name.startswith("LATIN") and not name.startswith(
        ("LATIN SMALL LETTER DOTLESS", "LATIN LETTER", "LATIN SMALL LETTER SCRIPT")
    ):
        base = unicodedata.normalize("NFD", character)[0]
        return "LATIN" if base.isascii() or character in "\u00df\u00f8\u0142\u00e6\u0153\u0111\u00fe\u00f0" else ""
    return name.partition(" ")[0].partition("-")[0] if name and not name.startswith("LATIN") else ""
