"""Trees of folders that have no end, and deep trees that have one."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from itertools import count
from pathlib import Path

import pytest

from cases import HOST, a, html, robots
from conftest import served
from indrel.demo.server import DemoServer
from indrel.demo.site import Response
from test_program import Run, write_site

MENU = ("about/", "huts/", "routes/", "news/", "contact/", "book/", "map/", "shop/")
_numbers = count()


def differing(*links: str) -> Response:
    """A page that is a little different each time it is asked for."""
    chance = random.Random(next(_numbers))
    words = " ".join(
        chance.choice(["hut", "path", "tarn", "ridge", "snow", "ford", "axe", "rope", "bell", "map"]) for _ in range(60)
    )
    return Response(html(body=f"<p>{words}</p>" + a(*links)).encode(), media_type="text/html; charset=utf-8")


TREES: dict[str, Callable[[str], Response]] = {
    "one name": lambda path: differing("about/"),
    "a menu of relative links": lambda path: differing(*MENU),
    "two names in turn": lambda path: differing("a/" if path.endswith("b/") else "b/", "c/"),
    "below a folder": lambda path: differing(*(f"/docs/{n}" for n in MENU[:3])) if path == "/" else differing(*MENU[:5]),
    "with numbers between": lambda path: differing(f"{len(path)}/next/", f"{len(path)}/more/", "up/"),
}  # fmt: skip


@pytest.mark.parametrize("shape", TREES)
def test_an_endless_tree_ends(shape: str, indrel: Run) -> None:
    asked: list[str] = []
    site = served({"/robots.txt": robots()})
    answer = site.answer

    def anything(scheme: str, host: str, path: str) -> Response:
        asked.append(path)
        return answer(scheme, host, path) if path == "/robots.txt" or "xml" in path else TREES[shape](path)

    site.answer = anything  # type: ignore[method-assign]
    with DemoServer(site=site) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        done = indrel("audit", HOST + "/", "--rate=0", "--json", "--fail-on=never", at, code=0)
    report = json.loads(done.stdout)
    print(f"{shape}: {len(asked)} requests, {report['bounded_patterns'][:3]}")
    assert len(asked) <= 1_000 and report["complete"] and any("not read" in note for note in report["notes"])


WORDS = (
    "lodge",
    "stove",
    "bunk",
    "lamp",
    "rope",
    "axe",
    "beacon",
    "ledger",
    "pantry",
    "cellar",
    "cairn",
    "gully",
    "arete",
    "tarn",
)


def test_a_deep_tree_that_ends_is_read_whole(indrel: Run, tmp_path: Path) -> None:
    """A reference of twelve levels, in which `core`, `util` and `index` come again everywhere: nothing is left unread."""
    pages: dict[str, str] = {}

    def grow(path: str, depth: int, chance: random.Random) -> None:
        below = []
        if depth < 12:
            below = [f"{chance.choice(WORDS)}-{chance.choice(WORDS)}", "core" if depth % 3 else "util"]
            below += [f"{chance.choice(WORDS)}{depth}"] if depth < 7 else []
        links = [f"/{path}{name}/" for name in below] + [f"/{path}index.html" for _ in range(depth > 0)]
        pages[f"{path}index.html"] = html(body=a(*links, "/"), title=path or "Start")
        for name in below:
            grow(f"{path}{name}/", depth + (1 if name == below[0] else 4), chance)

    grow("", 0, random.Random(4))
    write_site(tmp_path / "b", pages)
    site = served(
        {"/" + path.removesuffix("index.html"): page for path, page in pages.items()} | {"/robots.txt": robots()}
    )
    with DemoServer(site=site) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        report = json.loads(indrel("audit", HOST + "/", "--rate=0", "--json", "--fail-on=never", at, code=0).stdout)
    deepest = max(path.count("/") for path in pages)
    print(f"{len(pages)} pages, deepest {deepest}")
    assert deepest >= 12 and len(pages) > 100
    assert report["counts"]["states"]["*"]["open"] == len(pages) and not report["bounded_patterns"]
