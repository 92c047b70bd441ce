"""Builds of generators in wide use: a folder, the same served, and the same rendered are one verdict with the same causes."""

from __future__ import annotations

import json
import subprocess
import sys
import sysconfig
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from cases import HOST
from test_program import Run, write_site

TEXT = "All that the wardens know of {0}: the way there, the beds and the stove, and who has the key in winter."
NAMES = ("routes", "conditions", "wardens")


def manual(folder: Path) -> Path:
    """Pages in folders of their own, with a sitemap, an error page and a search page."""
    pages = {f"docs/{n}.md": f"# {n}\n\n{TEXT.format(n)} [Over Sarn](huts/over-sarn.md)\n" for n in ("index", *NAMES)}
    pages |= {
        f"docs/huts/{n}.md": f"# {n}\n\n{TEXT.format(n)} [Routes](../routes.md)\n" for n in ("over-sarn", "low-byre")
    }
    write_site(folder, {**pages, "mkdocs.yml": f"site_name: Sarnfell\nsite_url: {HOST}/\n"})
    subprocess.run([sys.executable, "-m", "mkdocs", "build", "-q"], cwd=folder, check=True, capture_output=True)
    return folder / "site"


def journal(folder: Path) -> Path:
    """Notes with archives by tag, author and page, all of them files beside the start page."""
    write_site(
        folder,
        {
            f"content/{n}.md": f"Title: Snow {n}\nDate: 2026-01-0{n}\nCategory: conditions\nTags: snow, tag{n % 3}\n\n{TEXT.format(n)}\n"
            for n in range(1, 9)
        }
        | {
            "conf.py": f"AUTHOR = 'Warden'\nSITENAME = 'Sarnfell'\nSITEURL = '{HOST}'\nTIMEZONE = 'UTC'\nDEFAULT_PAGINATION = 3\n"
            "FEED_ALL_ATOM = CATEGORY_FEED_ATOM = TRANSLATION_FEED_ATOM = AUTHOR_FEED_ATOM = AUTHOR_FEED_RSS = None\n"
        },
    )
    words = [Path(sysconfig.get_path("scripts")) / "pelican", "content", "-o", "out", "-s", "conf.py", "-q"]
    subprocess.run(words, cwd=folder, check=True, capture_output=True)
    return folder / "out"


def told(report: dict[str, Any]) -> tuple[dict[str, int], set[tuple[str, str | None]]]:
    """What a reader acts on: the counts of the verdict, and the causes but notes."""
    verdict = {name: report["verdict"][name] for name in ("wanted", "lost", "exposed", "conflicts", "faults")}
    return verdict, {(c["check"], c["relation"]) for c in report["causes"] if c["severity"] != "note"}


@pytest.mark.parametrize("made", [manual, journal])
def test_one_build_is_one_verdict(made: Callable[[Path], Path], tmp_path: Path, indrel: Run, nginx: Any) -> None:
    build = made(tmp_path)
    options = ("--json", "--fail-on=never", "--rate=0")
    found = [json.loads(indrel("audit", str(build), "--base", HOST, *options, code=0).stdout)]
    at = nginx(
        build,
        "include /etc/nginx/mime.types;",
        "absolute_redirect off; location / { try_files $uri $uri/ $uri.html =404; }",
    )
    for more in ((), ("--render=all",)):
        done = indrel("audit", HOST + "/", f"--connect={HOST[8:]}={at}", *options, *more, code=0)
        found.append(json.loads(done.stdout))
    first, *others = map(told, found)
    print(first)
    assert others == [first, first]
    assert first[0]["lost"] == 0 and not [c for r in found for c in r["causes"] if c["severity"] in ("stop", "fix")]
