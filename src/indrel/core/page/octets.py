"""A page's bytes before they are parsed: their charset, and bounds against absurd input."""

from __future__ import annotations

import codecs
import functools
import re

MAX_DEPTH = 4_000
"""Elements nested deeper than any page means: the parser is quadratic there, so the rest is cut off."""

MAX_ATTRIBUTES = 2_000
"""Attributes on one tag: also."""

_ANY_TAG = re.compile(
    rb"<!--.*?(?:-->|\Z)|<(?P<opaque>script|style|textarea|title|xmp|iframe|noembed|noframes)\b[^>]*>.*?(?:</(?P=opaque)\b[^>]*>|\Z)"
    rb"|<(?P<end>/?)(?P<name>[a-zA-Z][^\s/>]*)[^>]*?(?P<empty>/?)>",
    re.IGNORECASE | re.DOTALL,
)
"""A tag, or a stretch in which what looks like tags is text: comments, scripts and the like (WHATWG HTML 13.2.5)."""

_BEGINNING = 16_384
_DECLARED = re.compile(rb"<!DOCTYPE([^\[<>]{0,500})\[[^\]]{0,8192}\]\s{0,99}>")
_EMPTY_TAG = re.compile(
    rb"<(?!(?:area|base|br|col|embed|hr|img|input|link|meta|source|track|wbr)[\s/])([A-Za-z][\w:.-]*)"
    rb"((?:\s+[^\s=<>/\"']+\s*=\s*(?:\"[^\"<]*\"|'[^'<]*'))*)\s*/>"
)
_META_CHARSET = re.compile(rb"<meta[^>]{0,500}?charset\s*=\s*[\"']?\s*([A-Za-z0-9_.:-]+)", re.IGNORECASE)
_ASCII = bytes(range(0x20, 0x7F))
_LONG_TAG = 8_000
_VOID = frozenset(
    b"area base br col embed hr img input link meta source track wbr p li dt dd tr td th option thead tbody tfoot "
    b"colgroup optgroup rp rt".split()
)
_WEB_CODECS = {"iso8859-1": "cp1252", "ascii": "cp1252", "iso8859-9": "cp1254", "tis-620": "cp874"}
_KNOWN_CODECS = frozenset(
    [
        "utf-8", "utf-16", "utf-16-le", "utf-16-be", "cp866", "koi8-r", "koi8-u", "mac-roman", "mac-cyrillic", "cp874", "cp932", "cp949",
        "gbk", "gb2312", "gb18030", "hz", "big5", "big5hkscs", "euc_jp", "iso2022_jp", "shift_jis", "euc_kr", "cp1252", "cp1254",
        *(f"cp125{n}" for n in range(9)), *(f"iso8859-{n}" for n in (2, 3, 4, 5, 6, 7, 8, 10, 13, 14, 15, 16)),
    ]
)  # fmt: skip
"""The encodings of WHATWG Encoding section 4.2, as codecs; UTF-7, UTF-32 and whatever else can be decoded are none."""


@functools.lru_cache(256)
def codec_name(label: str | None) -> str | None:
    """The codec that the web means by a charset label, or None where there is none."""
    if not label:
        return None
    try:
        name = codecs.lookup(label.strip().strip("\"'")).name
    except (LookupError, ValueError):
        return None
    name = _WEB_CODECS.get(name, name)
    return name if name in _KNOWN_CODECS else None


def to_utf8(data: bytes, header_charset: str | None) -> tuple[bytes, str]:
    """The page's bytes in UTF-8 and the charset they were read in: byte order mark, header, meta, guess."""
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8"),
        (codecs.BOM_UTF16_LE, "utf-16-le"),
        (codecs.BOM_UTF16_BE, "utf-16-be"),
    ):
        if data.startswith(mark):
            return data[len(mark) :].decode(name, "replace").encode(), name
    declared = codec_name(header_charset)
    if declared is None:
        found = _META_CHARSET.search(data[:4096])
        declared = codec_name(found[1].decode("ascii")) if found else None
        if declared and declared.startswith("utf-16"):
            declared = "utf-8"  # WHATWG HTML: a page that says so in ASCII is not UTF-16
    if declared in (None, "utf-8"):
        try:
            if not data.isascii():
                data.decode("utf-8")
            return data, "utf-8"
        except UnicodeDecodeError:
            if declared:
                return data.decode("utf-8", "replace").encode(), "utf-8"
            declared = _guess(data)
    try:
        return data.decode(declared, "replace").encode("utf-8", "replace"), declared
    except (LookupError, ValueError):  # codecs that are not text encodings
        return data.decode("cp1252", "replace").encode(), "cp1252"


def _guess(data: bytes) -> str:
    import charset_normalizer

    best = charset_normalizer.from_bytes(data[:32_768]).best()
    if best is None or _ASCII.decode(best.encoding, "replace") != _ASCII.decode("ascii"):
        return "cp1252"  # every charset in use on the web agrees with ASCII
    return best.encoding


def as_html(data: bytes) -> bytes:
    """An XHTML page as an HTML parser has to be given it, on the same lines: what is empty in XML is closed, and entities
    that the document type declares are left out (XML 1.0 sections 2.8 and 3.1)."""
    declared = _DECLARED.search(data, 0, _BEGINNING)
    if declared:
        lines = b"\n" * declared[0].count(b"\n")
        data = data[: declared.start()] + b"<!DOCTYPE" + declared[1] + lines + b">" + data[declared.end() :]
    return _EMPTY_TAG.sub(rb"<\1\2></\1>", data)


def bound(data: bytes) -> tuple[bytes, str | None]:
    """Cut a page off where it is nested or attributed beyond reason; say where and why."""
    tags = data.count(b"<") if len(data) > 3 * MAX_DEPTH else 0
    if tags > MAX_DEPTH and tags - 2 * data.count(b"</") > MAX_DEPTH:
        depth = 0
        for tag in _ANY_TAG.finditer(data):
            if tag["name"] is None or tag["empty"] or tag["name"].lower() in _VOID:
                continue
            depth += -1 if tag["end"] else 1
            if depth > MAX_DEPTH:
                line = data.count(b"\n", 0, tag.start()) + 1
                problem = f"elements nested over {MAX_DEPTH} deep at line {line}: the rest was not read"
                return data[: tag.start()], problem
    if any(data.rfind(b">", i, i + _LONG_TAG) < 0 for i in range(0, len(data) - _LONG_TAG, _LONG_TAG)):
        for tag in re.finditer(rb"<[a-zA-Z][^>]{8000,}+", data):
            if len(re.findall(rb"[\s\"'][^\s=>\"'/]+", tag[0][:400_000])) > MAX_ATTRIBUTES:
                line = data.count(b"\n", 0, tag.start()) + 1
                problem = f"a tag with over {MAX_ATTRIBUTES} attributes at line {line}: the rest was not read"
                return data[: tag.start()], problem
    return data, None
