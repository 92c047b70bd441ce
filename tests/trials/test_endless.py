"""Trees of folders that have no end, and deep trees that have one."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from datetime import date, timedelta
from itertools import count
from pathlib import Path
from urllib.parse import parse_qsl, urlencode

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


FACETS = {"colour": "red blue green grey", "size": "s m l xl", "make": "a b c d", "type": "x y z w", "stock": "yes no"}
SHOP = [f"/p{n}" for n in range(30)]


def asked_of(path: str) -> dict[str, str]:
    return dict(parse_qsl(path.partition("?")[2]))


def page_of(path: str, *links: str) -> Response:
    """A page with a text of its own."""
    chance = random.Random(path)
    words = " ".join(chance.choice(WORDS) for _ in range(60))
    return Response(
        html(body=f"<p>{words}</p>" + a(*(link.replace("&", "&amp;") for link in links)), title=path).encode()
    )


def calendar(path: str) -> Response:
    """Months name days, days name months."""
    asked = asked_of(path)
    if "month" in asked:
        year, month = map(int, asked["month"].split("-"))
        beside = [f"/cal?month={(year * 12 + month - 1 + n) // 12}-{(month - 1 + n) % 12 + 1:02}" for n in (-1, 1)]
        return page_of(path, *beside, *(f"/cal?day={year}-{month:02}-{d:02}" for d in range(1, 29)))
    if "day" in asked:
        day = date.fromisoformat(asked["day"])
        near = [f"/cal?day={day + timedelta(n)}" for n in (-1, 1)]
        return page_of(path, *near, f"/cal?month={day:%Y-%m}")
    return page_of(path, "/cal?month=2026-12", *SHOP)


def facets(path: str) -> Response:
    """Any choice of facets, in the order in which they were chosen."""
    chosen = asked_of(path)
    every = [(name, value) for name, values in FACETS.items() for value in values.split()]
    links = [f"/list?{urlencode({k: v for k, v in chosen.items() if k != n} | {n: value})}" for n, value in every]
    return page_of(path, *links) if path.startswith("/list") else page_of(path, "/list", *SHOP)


def folders(path: str) -> Response:
    """The same as folders."""
    chosen = {name.partition("-")[0] for name in path.split("/")}
    every = [f"{name}-{value}" for name, values in FACETS.items() for value in values.split() if name not in chosen]
    return (
        page_of(path, *(f"{path}/{name}" for name in every))
        if path.startswith("/list")
        else page_of(path, "/list", *SHOP)
    )


def sessions(path: str) -> Response:
    """Every page gives all its links a new session."""
    session = f"{random.Random(next(_numbers)).getrandbits(128):032x}"
    return page_of(path.partition("?")[0], *(f"{name}?sid={session}" for name in ("/", *SHOP)))


def differences(path: str) -> Response:
    """A wiki: each history names the difference of any two revisions."""
    asked = asked_of(path)
    title = asked.get("title", "")
    if asked.get("action") == "history":
        pairs = [(n, m) for n in range(20) for m in range(n)]
        return page_of(path, *(f"/wiki?title={title}&diff={n}&oldid={m}" for n, m in pairs))
    views = [f"/wiki?title={title}&action={name}" for name in ("history", "edit")] if title else []
    return page_of(path, *views, *(f"/wiki?title=P{n}" for n in range(25)))


@pytest.mark.parametrize("answers", [calendar, facets, folders, sessions, differences])
def test_an_endless_space_ends_and_is_reported(answers: Callable[[str], Response], indrel: Run) -> None:
    asked: list[str] = []
    site = served({"/robots.txt": robots()})
    known = site.answer

    def anything(scheme: str, host: str, path: str) -> Response:
        asked.append(path)
        made_up = path.count("/") == 1 and "?" not in path and path not in ("/", "/list", *SHOP)
        return known(scheme, host, path) if path == "/robots.txt" or "xml" in path or made_up else answers(path)

    site.answer = anything  # type: ignore[method-assign]
    with DemoServer(site=site) as server:
        at = f"--connect={HOST[8:]}=http://127.0.0.1:{server.port}"
        report = json.loads(indrel("audit", HOST + "/", "--rate=0", "--json", "--fail-on=never", at, code=0).stdout)
    found = [f for f in report["findings"] if f["check"] == "endless-space"]
    print(f"{answers.__name__}: {len(asked)} requests, {[f['message'] for f in found]}")
    assert len(asked) <= 1_000 and report["complete"]
    assert found and {f["severity"] for f in found} <= {"ask", "fix"} and found[0]["evidence"][0]["kind"] == "link"
    assert found[0]["severity"] == "fix" and "have no end" in found[0]["message"]
