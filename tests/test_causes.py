"""Ids of causes: the same wherever the cause is met, short where they are shown."""

from __future__ import annotations

import json
import random
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from cases import HOST, NOINDEX, a, html, robots, sitemap
from indrel.checks.causes import id_of, shortened
from test_program import Run, write_site

NAMES = [f"/tag/{n}.html" for n in range(4)]
PAGES = {
    "index.html": html(body=a(*NAMES, "/gone.html")), "robots.txt": robots("Disallow: /shut", f"Sitemap: {HOST}/sitemap.xml"),
    "shut.html": html(), "sitemap.xml": sitemap("/", *NAMES, "/shut.html"), **{name[1:]: html(NOINDEX) for name in NAMES},
}  # fmt: skip
INTENT = '[[want]]\nmatch = "/shut*"\nwant = "show"\n[[want]]\nmatch = "/tag/*"\nwant = "show"\n'


@given(st.lists(st.text("0123456789abcdef", min_size=10, max_size=10), min_size=1, max_size=300, unique=True))
def test_short_ids_are_the_shortest_that_are_unique(digits: list[str]) -> None:
    ids = [f"c{one}" for one in digits]
    found = shortened(ids)
    for one, short in found.items():
        assert one.startswith(short) and len(short) >= 5 and sum(other.startswith(short) for other in ids) == 1
        assert len(short) == 5 or sum(other.startswith(short[:-1]) for other in ids) > 1


def causes_in(indrel: Run, folder: Path, *more: object) -> dict[str, str]:
    done = indrel("audit", "b", "--base", HOST + "/", "--json", "--fail-on=never", *more, code=0)
    causes = json.loads(done.stdout)["causes"]
    assert [c["rank"] for c in causes] == list(range(1, len(causes) + 1))
    assert all(
        len(c["id"]) == 11 and c["id"] == f"c{int(c['id'][1:], 16):010x}" and c["relation"] is None for c in causes
    )
    return {c["check"]: c["id"] for c in causes}


def test_an_id_is_the_same_in_every_audit_that_has_the_cause(indrel: Run, tmp_path: Path) -> None:
    """Under another intent, in another order of harm, with lines moved, with more findings, live or later: the same id."""
    write_site(tmp_path / "b", PAGES)
    first = causes_in(indrel, tmp_path, "--save", "1.indrel")
    assert {"listed-hidden", "listed-barred", "link-to-gone"} <= set(first)
    (tmp_path / "own.toml").write_text(INTENT)
    stated = causes_in(indrel, tmp_path, "--intent", "own.toml")
    assert "noindex-wanted" in stated and "noindex-wanted" not in first
    moved = {**PAGES, "robots.txt": "# rules\n\n" + PAGES["robots.txt"], "tag/9.html": html(NOINDEX)}
    moved["sitemap.xml"] = "\n\n" + sitemap("/", *random.Random(1).sample([*NAMES, "/tag/9.html", "/shut.html"], 6))
    write_site(tmp_path / "b", moved)
    later = causes_in(indrel, tmp_path)
    for check, one in first.items():
        assert later.get(check, one) == one and stated.get(check, one) == one
    assert len(set(first.values())) == len(first)
    assert id_of("listed-hidden", ("tag", "x")) != id_of("listed-hidden", ("tag", "x"), "same")


def test_causes_are_named_by_any_prefix(indrel: Run, tmp_path: Path) -> None:
    """What a ticket, a table and a report show is taken by `recheck`; an old number is answered with what to do."""
    write_site(tmp_path / "b", PAGES)
    one = causes_in(indrel, tmp_path, "--save", "s.indrel")["listed-hidden"]
    indrel("draft", "tickets", "s.indrel", "-o", "t", code=0)
    (ticket,) = (tmp_path / "t").glob("*listed-hidden.md")
    assert f"cause `{one[:5]}`" in ticket.read_text()
    assert one[:5] in indrel("audit", "s.indrel", "--all", "--fail-on=never").stdout
    sarif = tmp_path / "x.sarif"
    indrel("report", "s.indrel", "-o", sarif, code=0)
    results = json.loads(sarif.read_text())["runs"][0]["results"]
    assert {r["partialFingerprints"]["cause/v1"] for r in results if r["ruleId"] == "listed-hidden"} == {one}
    spans = json.loads(indrel("history", "--in", ".", "--json", code=0).stdout)["causes"]
    assert one in {span["id"] for span in spans}
    for word, told in (("c4", "a number from an older report"), ("cffff0", "no cause cffff0 here"), ("c", "it begins")):
        done = indrel("recheck", "s.indrel", "--cause", word, code=2)
        assert told in done.stderr and len(done.stderr.splitlines()) == 1
    for word in (one, one[:5], one[:7].upper()):
        assert "is of a folder" in indrel("recheck", "s.indrel", "--cause", word, code=2).stderr
