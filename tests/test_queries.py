"""The number of queries does not grow with what was found: no check, report or answer asks once a finding or a group."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

import duckdb
import pytest
from typer.testing import CliRunner

from cases import HOST, NOINDEX, a, canonical, html, robots, sitemap
from indrel.cli.app import app
from test_program import write_site


class Counted:
    """A connection that counts what is asked, by the place in the program that asks."""

    def __init__(self, con: Any, counts: Counter[str]) -> None:
        self.__dict__.update(con=con, counts=counts)

    def __getattr__(self, name: str) -> Any:
        if name in ("execute", "sql"):
            self.counts["all"] += 1
        return getattr(self.con, name)


def words(name: str, count: int = 50) -> str:
    return f"<p>{' '.join(f'{name}{j}' for j in range(count))}</p>"


def faulty(times: int) -> dict[str, str]:
    """A site with each of its faults so many times."""
    pages = {
        "robots.txt": robots(
            "Disallow: /barred/", *(f"Disallow: /pre{i}" for i in range(times)), f"Sitemap: {HOST}/sitemap.xml"
        )
    }
    for i in range(times):
        open_, twin = words(f"o{i}"), words(f"t{i}")
        pages |= {
            f"open/{i}.html": html(body=open_ + a(f"/gone/{i}.html") + a(f"/hid/{i}.html", rel="nofollow")),
            f"hid/{i}.html": html(NOINDEX, words(f"h{i}")),
            f"to-gone/{i}.html": html(canonical(f"/gone/{i}.html"), words(f"g{i}")),
            f"to-hid/{i}.html": html(canonical(f"/hid/{i}.html"), words(f"i{i}")),
            f"chain/{i}.html": html(canonical(f"/to-hid/{i}.html"), words(f"c{i}")),
            f"unlike/{i}.html": html(canonical(f"/open/{i}.html"), words(f"u{i}")),
            f"several/{i}.html": html(canonical(f"/open/{i}.html") + canonical("/"), words(f"s{i}")),
            f"twin/{i}.html": html(body=twin), f"other/{i}.html": html(body=twin), f"near/{i}.html": html(body=twin + "more"),
            f"slip/{i}.html": html('<meta name="robots" content="no-index"><meta name="robots" content="all, none">', words(f"l{i}")),
            f"body/{i}.html": html(body=words(f"b{i}") + NOINDEX),
            f"barred/{i}.html": html(NOINDEX, words(f"r{i}")),
            f"pre{i}fix.html": html(body=words(f"p{i}")),
        }  # fmt: skip
    named = [f"/{name}" for name in pages if name.endswith(".html")]
    pages["index.html"] = html(canonical("/"), a(*named))
    pages["sitemap.xml"] = sitemap("/", *named, *(f"/gone/{i}.html" for i in range(times)))
    return pages


def test_queries_do_not_grow_with_findings(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    counts: Counter[str] = Counter()
    connect = duckdb.connect
    monkeypatch.setattr(duckdb, "connect", lambda *args, **options: Counted(connect(*args, **options), counts))
    asked: dict[str, list[int]] = {}
    found = []
    for times in (2, 25):
        write_site(tmp_path / str(times), faulty(times))
        table = "URL,Status\n" + "".join(
            f"{HOST}/{name},not indexed\n" for name in faulty(times) if name.endswith(".html")
        )
        (tmp_path / "table.csv").write_text(table)
        (tmp_path / "hide.toml").write_text('[[want]]\nmatch = "/hid/*"\nwant = "hide"\nbecause = "old"\n')
        (tmp_path / "new.txt").write_text("User-agent: *\nDisallow: /open/\n")
        snapshot = f"{times}.indrel"
        gathered = CliRunner().invoke(app, ["audit", str(times), "--base", f"{HOST}/", "--snapshot", snapshot])
        assert gathered.exit_code == 1, gathered.output  # how often that writes hangs on the clock
        rules = f"{times}/robots.txt"
        for command in (
            ["audit", snapshot, "--crawler", "bingbot"],
            ["report", snapshot, *(f"-o{times}.{ending}" for ending in ("json", "csv", "xlsx", "md", "sarif", "html"))],
            ["list", snapshot, "-o", f"{times}-list.csv"], ["compare", snapshot, snapshot], ["reconcile", snapshot, "table.csv"],
            ["robots", "matrix", rules, "--from", snapshot], ["robots", "impact", rules, "new.txt", "--from", snapshot],
            *(["draft", kind, snapshot, "--intent", "hide.toml", "-o", f"{kind}-{times}"] for kind in ("robots", "sitemap", "headers")),
            ["draft", "tickets", snapshot, "-o", f"{times}-tickets"], ["intent", "draft", snapshot],
        ):  # fmt: skip
            counts.clear()
            done = CliRunner().invoke(app, command)
            assert done.exit_code in (0, 1) and isinstance(done.exception, SystemExit | None), (command, done.output)
            asked.setdefault(
                " ".join(command[:2]) if command[0] in ("draft", "intent", "robots") else command[0], []
            ).append(counts["all"])
        found.append(Path(f"{times}.csv").read_text().count("\n"))
    assert found[0] < 120 and found[1] > 450, found
    grown = {name: n for name, n in asked.items() if n[1] > n[0] + 12}
    assert not grown, grown
