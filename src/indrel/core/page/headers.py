"""Response headers that bear on listing: `X-Robots-Tag`, `Link` (RFC 8288), content types."""

from __future__ import annotations

import re
from collections.abc import Iterable
from email.message import Message
from functools import lru_cache

_LINK = re.compile(r"\s*<([^>]*)>((?:[^,\"]|\"(?:\\.|[^\"\\])*\")*)(?:,|$)")
_PARAM = re.compile(r";\s*([A-Za-z0-9!#$&+.^_`|~-]+)\s*(?:=\s*(\"(?:\\.|[^\"\\])*\"|[^;\s\"]*))?")

MAX_HEADER = 16_384
"""Longer header values are cut: nobody means them."""


@lru_cache(maxsize=1_000)
def content_type(value: str | None) -> tuple[str, str | None]:
    """Media type in lower case (empty where none is given) and charset."""
    if not value:
        return "", None
    message = Message()
    message["content-type"] = value[:MAX_HEADER].replace("\n", " ").replace("\r", " ")
    charset = message.get_param("charset")
    return message.get_content_type() if "/" in value else "", charset if isinstance(charset, str) else None


XHTML = "application/xhtml+xml"
"""A page of this type is read as XML (WHATWG HTML section 14.1)."""

PAGE_TYPES = ("text/html", XHTML)


def is_html(media_type: str) -> bool:
    return media_type in PAGE_TYPES


_BEGINS_HTML = re.compile(
    rb"[\t\n\f\r ]*<(?:!--|(?:!doctype html|html|head|script|iframe|h1|div|font|table|a|style|title|b|body|br|p)[\t\n\f\r >])",
    re.IGNORECASE,
)


def looks_like_html(body: bytes) -> bool:
    """Whether a body without a content type is taken for a page (WHATWG MIME Sniffing section 7.1)."""
    return _BEGINS_HTML.match(body) is not None


def link_relations(values: Iterable[str]) -> list[tuple[str, dict[str, str]]]:
    """The targets of `Link` headers as written, with their parameters (names in lower case)."""
    found: list[tuple[str, dict[str, str]]] = []
    for value in values:
        for link in _LINK.finditer(value[:MAX_HEADER]):
            params: dict[str, str] = {}
            for param in _PARAM.finditer(link[2]):
                text = param[2] or ""
                if text.startswith('"'):
                    text = re.sub(r"\\(.)", r"\1", text[1:-1])
                params.setdefault(param[1].lower(), text)
            found.append((link[1].strip(), params))
    return found


def has_relation(params: dict[str, str], relation: str) -> bool:
    return relation in params.get("rel", "").lower().split()
