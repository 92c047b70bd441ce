"""Mutated input for the readers of strangers' octets: `python tests/trials/fuzz.py [TIMES]` prints a table.

Each reader gets mutations of good input. None may raise, take over half a second, or let memory grow.
"""

from __future__ import annotations

import random
import resource
import sys
import time
from collections.abc import Callable, Iterator

from indrel.ask.reconcile.log_lines import LOG_LINE
from indrel.core import crawlers
from indrel.core.address import Joiner, normalise
from indrel.core.page.facts import header_canonicals, header_directives
from indrel.core.page.html import read_page
from indrel.core.robots import parse
from indrel.core.sitemap import SitemapReader
from indrel.demo.site import build

SLOW = 0.5
PIECES = [
    b"<", b">", b"<!--", b"-->", b"<![CDATA[", b"<svg>", b"</svg>", b"<math>", b"<template>", b"</head>", b"<body>", b"<plaintext>",
    b'<meta name="robots" content="', b'<link rel="canonical" href="', b'<a href="', b"<base href=", b"&#x110000;", b"&#0;", b"\x00",
    b"\xff\xfe", b"\xef\xbb\xbf", b"\xed\xa0\x80", b"<script>", b"</script>", b"'", b'"', b"=", b"\r", b"%", b"%zz", b"http://[",
    b"Disallow: ", b"User-agent: *\n", b"Sitemap:", b"*" * 40, b"$", b"<url><loc>", b"]]>", b"<?xml version='1.0' encoding='utf-7'?>",
    b"noindex:", b"unavailable_after: ", b"rel=", b"xlink:href=", b"<frameset>", b"<select>", b"<table>", b"a" * 5_000,
]  # fmt: skip


def mutated(seeds: list[bytes], at: random.Random) -> bytes:
    """A seed with a few places changed."""
    octets = bytearray(at.choice(seeds))
    for _ in range(at.randrange(1, 9)):
        place, kind = at.randrange(len(octets) + 1), at.randrange(5)
        if kind == 0 and octets:
            octets[min(place, len(octets) - 1)] = at.randrange(256)
        elif kind == 1:
            octets[place:place] = at.choice(PIECES)
        elif kind == 2:
            del octets[place : place + at.randrange(200)]
        elif kind == 3:
            octets[place:place] = octets[max(0, place - at.randrange(300)) : place] * at.randrange(1, 5)
        else:
            other = at.choice(seeds)
            begin = at.randrange(len(other) + 1)
            octets[place:place] = other[begin : begin + at.randrange(400)]
    return bytes(octets[:60_000])


def readers() -> dict[str, tuple[list[bytes], Callable[[bytes], object], float]]:
    """Each reader with its seeds, and its share of the tries."""
    site, joiner = build(), Joiner(1_000)
    bodies = [page.body for page in site.pages.values() if not isinstance(page, str)]
    pages = [b for b in bodies if b"<html" in b.lower()] + [b'<svg><a xlink:href="/x">x</a><a href="/y"></a></svg>']
    rules = [b for b in bodies if b"user-agent" in b.lower() and b"<html" not in b.lower()]
    maps = [b for b in bodies if b"<urlset" in b or b"<sitemapindex" in b]
    log = b'66.0.0.1 - - [01/Nov/2026:00:00:00 +0000] "GET /a?b=%20 HTTP/1.1" 200 5 "-" "Googlebot/2.1"'

    def sitemap(octets: bytes) -> object:
        reader = SitemapReader()
        return reader.feed(octets), reader.close(), reader.summary

    def header(octets: bytes) -> object:
        text = octets.decode("latin-1").replace("\n", " ")
        return header_directives([text]), header_canonicals([text], "https://www.sarnfell.example/a")

    return {
        "pages": (pages, lambda o: read_page(o, "https://www.sarnfell.example/a/", None, joiner, crawlers.is_known), 0.7),
        "robots.txt": (rules, lambda o: [parse(o).ruleset((t,)) for t in ("googlebot", "*")], 0.1),
        "sitemaps": (maps, sitemap, 0.1),
        "headers": ([b"noindex, googlebot: nofollow", b'</a>; rel="canonical"; title="x"', b"unavailable_after: 1 Jan 2027"], header, 0.05),
        "log lines": ([log], lambda o: LOG_LINE.match(o), 0.03),
        "addresses": ([b"https://www.sarnfell.example:443/a/../b?x=%C3%BC#f"], lambda o: normalise(o.decode("utf-8", "replace")), 0.02),
    }  # fmt: skip


def run(times: int, seed: int = 1) -> Iterator[tuple[str, int, float, str]]:
    """By reader: tries, the slowest in seconds, the first fault (empty: none)."""
    at = random.Random(seed)
    for name, (seeds, read, share) in readers().items():
        slowest, fault, tries = 0.0, "", max(1, round(times * share))
        for _ in range(tries):
            octets = mutated(seeds, at)
            begin = time.process_time()
            try:
                read(octets)
            except Exception as error:
                fault = fault or f"{type(error).__name__}: {error} on {octets[:200]!r}"
            slowest = max(slowest, time.process_time() - begin)
        yield name, tries, slowest, fault


if __name__ == "__main__":
    faults = 0
    for name, tries, slowest, fault in run(int(sys.argv[1]) if len(sys.argv) > 1 else 20_000):
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
        print(f"{name:<12} {tries:>9,} tries, slowest {slowest * 1000:5.0f} ms, {memory:,} MiB  {fault}", flush=True)
        faults += bool(fault) or slowest > SLOW
    sys.exit(1 if faults else 0)
