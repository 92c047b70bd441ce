"""A generated site for the benchmarks: pages that look like pages, with links that reach them all."""

from __future__ import annotations

from pathlib import Path

LINKS, OTHERS = 12, 18
WORDS = "hut ridge beck tarn crag stove warden bunk path cairn snow rope map kettle boots rain".split()  # noqa: SIM905


def page(number: int, total: int) -> bytes:
    """Page `number`: links to its children in a tree of all pages, and to some others."""
    children = [c for c in range(number * LINKS + 1, number * LINKS + LINKS + 1) if c < total]
    others = [(number * 7 + k * 131) % total for k in range(OTHERS)]
    links = "\n".join(f'<li><a href="{path(n)}">Page {n} of the huts</a></li>' for n in [*children, *others])
    words = " ".join(WORDS[(number * 31 + k * k) % len(WORDS)] for k in range(400))
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Page {number}</title>\n'
        f'<link rel="canonical" href="{path(number)}">\n<link rel="stylesheet" href="/site.css"></head>\n'
        f"<body><h1>Page {number}</h1>\n<p>{words}</p>\n<ul>{links}</ul></body></html>\n"
    ).encode()


def path(number: int) -> str:
    return "/" if number == 0 else f"/s{number % 20}/page-{number}.html"


def write(folder: Path, total: int) -> None:
    """Write the site as files."""
    for section in range(20):
        (folder / f"s{section}").mkdir(parents=True, exist_ok=True)
    for number in range(total):
        name = "index.html" if number == 0 else path(number)[1:]
        (folder / name).write_bytes(page(number, total))
    (folder / "site.css").write_text("body{}")
    (folder / "robots.txt").write_text("User-agent: *\nDisallow: /private/\n")
