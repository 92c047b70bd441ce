"""Sections: groups of addresses that share a pattern, found from the address alone."""

from __future__ import annotations

from indrel.core.address import split

SQL = """CASE WHEN path = '/' OR starts_with(path, '/?') THEN '/'
WHEN regexp_matches(path, '^/[^/?]+/') THEN regexp_extract(path, '^/[^/?]+/') || '*' ELSE '/*' END"""
"""The section of a `path` column on the site's main host."""


def section_of(url: str, base_origin: str) -> str:
    """`/huts/*` for everything below a first folder, `/*` for pages beside the start page, `/` for it.

    Sections of other hosts begin with `//host`.
    """
    parts = split(url)
    path = parts.path.partition("?")[0]
    if path == "/":
        section = "/"
    else:
        folder, slash, _ = path[1:].partition("/")
        section = f"/{folder}/*" if slash and folder else "/*"
    return section if parts.origin == base_origin else f"//{parts.host}{section}"
