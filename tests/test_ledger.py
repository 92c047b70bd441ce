"""The book of what was asked of an engine: a daily allowance, nothing twice, removals that lapse, delivery."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from datetime import date, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import HOST, NOINDEX, a, html
from indrel.ask.compare import StateChange
from indrel.demo.endpoint import KEY, Endpoint, judge
from indrel.ledger import Asked, Ledger
from indrel.ledger.choose import from_changes
from indrel.ledger.send import bodies
from test_program import Run, write_site

MONDAY = date(2026, 11, 23)
URLS = [f"{HOST}/huts/{n}" for n in range(25)]


def test_a_week(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "urls.txt").write_text("\n".join(URLS) + "\n")
    given_out: list[str] = []
    for n in range(7):
        day = ["--on", str(MONDAY + timedelta(n))]
        told = json.loads(indrel("ledger", "request", "--urls", "urls.txt", "--json", *day).stdout)
        today = [r["url"] for r in told["today"]]
        assert len(today) == min(10, 25 - len(given_out)) and not set(today) & set(given_out)
        assert json.loads(indrel("ledger", "request", "--json", *day).stdout)["today"] == told["today"]
        given_out += today
        if n == 0:
            indrel("ledger", "done", *today[:6], *day)
        elif n == 1:
            indrel("ledger", "done", *today, *day)
    assert given_out == URLS
    late = indrel("ledger", "status", *day).stdout
    assert late.startswith("2026-11-29: 9 listed and not done, 0 waiting, 16 done. ")
    again = json.loads(indrel("ledger", "request", "--again", "--json", "-o", "day.txt", *day).stdout)
    assert again["put_back"] == 9 and [r["url"] for r in again["today"]] == URLS[6:10] + URLS[20:]
    assert (tmp_path / "day.txt").read_text().splitlines() == URLS[6:10] + URLS[20:]
    assert "no more may be" not in indrel("ledger", "done", *day).stdout
    assert "is not a URL" in indrel("ledger", "request", "ftp://x.example/", code=2).stderr
    assert f"has no {HOST}/other" in indrel("ledger", "done", f"{HOST}/other", code=2).stderr


def test_each_site_has_its_own_list(indrel: Run, tmp_path: Path) -> None:
    """One book for many clients: the URLs of one take no room from another's, and its list names none of them."""
    other = [f"https://outfitter.example/{n}" for n in range(12)]
    day = ("--on", str(MONDAY))
    first = json.loads(indrel("ledger", "request", *URLS[:12], "--json", *day, code=0).stdout)
    second = json.loads(indrel("ledger", "request", *other, "--json", *day, code=0).stdout)
    assert [r["url"] for r in first["today"]] == URLS[:10] and [r["url"] for r in second["today"]] == other[:10]
    assert (first["waiting"], second["waiting"]) == (2, 2)
    told = " ".join(indrel("ledger", "status", *day, code=0).stdout.split())
    for site in ("outfitter.example", "sarnfell.example"):
        assert f"{site}, {MONDAY}: 10 listed and not done, 2 waiting" in told


@settings(max_examples=40)
@given(
    st.lists(st.tuples(st.integers(0, 30), st.integers(0, 3), st.booleans()), max_size=40),
    st.integers(1, 5),
)
def test_never_twice_and_never_too_many(steps: list[tuple[int, int, bool]], allowance: int) -> None:
    with Ledger(Path(":memory:")) as book:
        book.allowance = allowance
        seen: dict[str, date] = {}
        for n, (number, harm, marks) in enumerate(steps):
            today = MONDAY + timedelta(n // 4)
            book.request([Asked(f"{HOST}/{number}", harm=harm)], today)
            waiting = {r.url: r.harm for r in book.waiting()}
            listed = book.give_out(today)
            assert len(listed) <= allowance
            fresh = [r for r in listed if r.url not in seen]
            left = [h for u, h in waiting.items() if u not in {r.url for r in listed}]
            assert not left or not fresh or min(r.harm for r in fresh) >= max(left)
            assert all(seen.setdefault(r.url, today) == today for r in listed)
            if marks:
                book.mark_done(today)


def test_harm_decides_the_order() -> None:
    changes = [
        StateChange("a", "*", "hidden", "open", True, "show"),
        StateChange("b", "*", "open", "hidden", False, "hide"),
        StateChange("c", "*", "open", "hidden", True, "show"),  # got worse: nobody should ask for it
        StateChange("g", "*", "barred", "open", False, "hide"),  # it would be indexed
        StateChange("d", "*", "gone", "folded", False, "any"),
        StateChange("e", "*", "barred", "hidden", False, "hide"),
        StateChange("f", "*", "open", "barred", False, "hide"),
        StateChange("d", "x", "open", "locked", False, "lock"),
    ]
    assert [c.url for c in from_changes(changes)] == ["b", "d", "a", "e"]


def test_from_snapshots(indrel: Run, tmp_path: Path) -> None:
    robots = {"robots.txt": "User-agent: *\nDisallow: /shut\n"}
    links = a("/a.html", "/b.html", "/shut.html")
    pages = {"index.html": html(body=links), "a.html": html(NOINDEX), "b.html": html(), "shut.html": html()}
    (tmp_path / "indrel.toml").write_text(
        '[[want]]\nmatch = "/b.html"\nwant = "hide"\n[[want]]\nmatch = "/a.html"\nwant = "show"\n'
    )
    base = ["--base", HOST + "/", "-q"]
    write_site(tmp_path / "s", {**pages, **robots})
    indrel("audit", "s", "--snapshot", "1.indrel", *base, code=1)
    write_site(tmp_path / "s", {**pages, **robots, "a.html": html(), "b.html": html(NOINDEX)})
    indrel("audit", "s", "--snapshot", "2.indrel", *base, "--fail-on", "never")
    shown = indrel("ledger", "request", "/shut.html", "--since", "1.indrel", "--from", "2.indrel")
    assert [line.strip() for line in shown.stdout.splitlines()[1:]] == [
        f"{HOST}/b.html", "can still be indexed: open before, hidden now", f"{HOST}/a.html", "can be indexed now: hidden before",
    ]  # fmt: skip
    assert f"not requested: {HOST}/shut.html is barred" in shown.stderr
    told = indrel("ledger", "request", "--check", "noindex-wanted", "--from", "1.indrel", "--json").stdout
    assert [r["url"] for r in json.loads(told)["asked_before"]] == [f"{HOST}/a.html"]
    for crawler, shut in (
        ("bingbot", False),
        ("googlebot", True),
    ):  # judged for the crawler of the engine that is asked
        rules = {"robots.txt": "User-agent: *\nAllow: /\n\nUser-agent: googlebot\nDisallow: /b.html\n"}
        write_site(tmp_path / "s", {**pages, **rules, "b.html": html(body=a("/a.html"))})
        indrel("audit", "s", "--snapshot", "3.indrel", *base, "--fail-on", "never")
        asked = indrel(
            "ledger",
            "request",
            "/b.html",
            "/a.html",
            "--from",
            "3.indrel",
            "--crawler",
            crawler,
            "--json",
            "--ledger",
            crawler,
        )
        found = json.loads(asked.stdout)
        assert [r["url"] for r in found["today"]][:1] == [f"{HOST}/a.html"] and (
            f"{HOST}/b.html" in found["of_no_use"]
        ) is shut
    for address, days in (("/b*", 20), ("/a.html", 20), ("/a*", 90), ("/other", 5)):
        indrel("ledger", "removal", HOST + address, "--days", days, "--because", "asked by phone")
    status = indrel("ledger", "status", "--from", "2.indrel", code=1).stdout
    for line in (
        "/b* expires",
        "the URL will stay out",
        "/a.html expires",
        f"nothing lasting is in place: {HOST}/a.html is open",
        "the snapshot has no such URL",
    ):
        assert line in " ".join(status.split()), status
    indrel("ledger", "removal", "--lift", HOST + "/a.html")
    found = json.loads(indrel("ledger", "status", "--from", "2.indrel", "--json").stdout)
    assert [r["address"] for r in found["removals"]] == [HOST + p for p in ("/other", "/b*", "/a*")]
    assert "has no removal" in indrel("ledger", "removal", "--lift", HOST + "/x", code=2).stderr


def test_delivery(indrel: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = "https://book.sarnfell.example/a"
    with Endpoint() as endpoint:
        indrel("ledger", "request", *URLS[:3], other)
        to = ["--to", endpoint.address]
        assert "does not accept the key" in indrel("ledger", "send", *to, "--key", "not-the-key", code=3).stderr
        shown = indrel("ledger", "send", *to, "--key", KEY, "--dry-run").stdout
        assert shown.count('"host"') == 2 and not endpoint.taken
        monkeypatch.setenv("INDREL_INDEXNOW_KEY", KEY)
        indrel("ledger", "send", *to)
        monkeypatch.delenv("INDREL_INDEXNOW_KEY")
        assert endpoint.taken == list(bodies([*URLS[:3], other], KEY))
        assert "nothing to send" in indrel("ledger", "send", *to, "--key", KEY).stdout and len(endpoint.taken) == 2
        done = json.loads(indrel("ledger", "status", "--json").stdout)["done"]
        assert {r["how"] for r in done} == {"sent to 127.0.0.1"} and KEY.encode() not in (
            tmp_path / "indrel.ledger"
        ).read_bytes()
        assert "8 to 128" in indrel("ledger", "send", *to, "--key", "short", code=2).stderr
        assert "--to" in indrel("ledger", "send", "--key", KEY, code=2).stderr
    indrel("ledger", "request", URLS[4])
    assert "did not accept" in indrel("ledger", "send", *to, "--key", KEY, code=3).stderr


@pytest.mark.parametrize(
    ("body", "status"),
    [
        (b"{", 400), (b'{"host": "a"}', 400), (b'{"host": "a", "urlList": 3}', 400),
        (b'{"host": "a", "key": "x", "urlList": ["https://a/"]}', 403),
        (b'{"host": "a", "key": "%s", "urlList": ["https://b/"]}' % KEY.encode(), 422),
        (b'{"host": "a", "key": "%s", "urlList": ["https://a/"]}' % KEY.encode(), 200),
    ],
)  # fmt: skip
def test_the_stand_in_judges(body: bytes, status: int) -> None:
    assert judge(body) == status


def test_what_is_no_ledger_is_left_alone(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "text").write_text("not a database, and long enough to be looked at as one " * 40)
    with closing(sqlite3.connect(tmp_path / "other")) as con:
        con.execute("CREATE TABLE x (y)")
    assert "cannot be opened as a ledger" in indrel("ledger", "request", URLS[0], "--ledger", "text", code=2).stderr
    assert "is a database, but no ledger" in indrel("ledger", "request", URLS[0], "--ledger", "other", code=2).stderr
    assert (
        "there is no ledger" in indrel("ledger", "status", code=2).stderr and not (tmp_path / "indrel.ledger").exists()
    )
    assert "write a date such as" in indrel("ledger", "request", URLS[0], "--on", "Monday", code=2).stderr
