"""What an engine's words mean: listed or not, in the languages that consoles speak. What is not understood is not guessed."""

from __future__ import annotations

import re
from collections.abc import Collection

_YES = re.compile(
    r"^(listed|(page )?indexed|submitted and indexed|valid|yes|true|y|1|on|ja|im index|indexiert|aufgenommen|oui|vrai|index[ée]e?s?|"
    r"s[ií]|indexad[oa]s?|indicizzat[aoie]|ge[iï]ndexeerd|tak|zindeksowan[aoey]|да|проиндексирован\w*|sim|verdadero|wahr|はい|已编入索引)"
    r"\b|^(はい|已编入索引)$",
    re.IGNORECASE,
)
_NO = re.compile(
    r"\b(not|no|non|nie|nicht|kein\w*|pas|niet|n[ãa]o|не|нет|sin|false|off|0|falsch|faux|unlisted|un-?indexed|de-?indexed|noindex|"
    r"exclu\w*|ausgeschlossen\w*|discovered|gefunden|d[ée]couverte?s?|crawled|gecrawlt|duplicate\w*|duplikat\w*|alternat\w*|anomal\w*|blocked|blockiert|"
    r"bloqu\w*|redir\w*|autre page|introuvable|ou?tra p[áa]gina|"
    r"weiterleitung\w*|error\w*|fehler\w*|soft 404|404|410|401|403|5xx|removed|unknown|unbekannt)\b|^n$|未编入",
    re.IGNORECASE,
)


def means_listed(text: str, listed: Collection[str] = ()) -> bool | None:
    """Whether a word says that an engine lists an address; None where that is not understood.

    `listed` are the values that were named to mean listed; then all others mean not.
    """
    said = text.strip()
    if listed:
        return said.lower() in {v.strip().lower() for v in listed}
    if _YES.search(said):
        return True
    return False if _NO.search(said) else None


_TITLE = re.compile(
    r"\b(not|nicht|non|no|un)[ _-]*(currently[ _-]*)?(index|list|indexed|listed|indexiert|index[ée]e?s?)\w*|"
    r"\b(excluded|unlisted|ausgeschlossen)\b",
    re.IGNORECASE,
)


def says_not_listed(text: str) -> bool:
    """Whether a title or a file's name says that what it holds is not listed."""
    return bool(_TITLE.search(text.replace("_", " ")))
