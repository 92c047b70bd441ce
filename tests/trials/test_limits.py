"""Inputs that are made to be large, deep, wide or endless: a limit each, and a sentence."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import time
import zipfile
import zlib
from pathlib import Path

import pytest
import xlsxwriter

from cases import HOST, html
from conftest import PROGRAM, lines_of
from indrel.ask.reconcile.tables import rows_of
from indrel.gather.parsing import PageTask, Parsed, ParserPool
from indrel.ledger.book import Ledger
from test_program import Run, write_site

URL = f"{HOST}/a"


@pytest.mark.skipif(sys.platform != "linux", reason="processor time of another process")
def test_a_busy_machine_is_no_slow_page(monkeypatch: pytest.MonkeyPatch) -> None:
    """A reader that is stopped for longer than a page may take, and goes on, has read its page."""
    pool = ParserPool(1, page_seconds=1.0)
    try:
        reader = pool._all[0].process.pid
        assert reader
        os.kill(reader, signal.SIGSTOP)
        if os.fork() == 0:
            time.sleep(3)
            os.kill(reader, signal.SIGCONT)
            os._exit(0)
        (parsed,) = pool.parse([PageTask(0, URL, html().encode())])
        assert parsed.pages[0][1] == "Hut"
    finally:
        pool.close()
        os.waitpid(-1, 0)


def test_what_became_of_a_reader_is_told() -> None:
    """It was killed, or took too long: the reason is a fact of its page."""
    for how, told in ((signal.SIGKILL, "ended by SIGKILL"), (signal.SIGSTOP, "it took more than 0.1 s")):
        pool = ParserPool(1, page_seconds=0.1)
        try:
            os.kill(pool._all[0].process.pid or 0, how)
            (parsed,) = pool.parse([PageTask(0, URL, html().encode())])
            assert isinstance(parsed, Parsed) and any(told in str(value) for value in parsed.pages[0]), parsed.pages
        finally:
            pool.close()


def test_an_unread_page_is_listed_with_its_reason(indrel: Run, tmp_path: Path) -> None:
    write_site(tmp_path / "b", {"index.html": html(), "deep.html": "<div>" * 200_000 + "x"})
    indrel("audit", "b", "--base", HOST + "/", "--save", "s.indrel", "--fail-on=never", code=0)
    (row,) = lines_of(indrel("list", "s.indrel", "--state", "unread", "--json").stdout)
    assert row["url"] == f"{HOST}/deep.html" and row["by"][0]["kind"] == "status" and "nested" in row["by"][0]["text"]
    assert "nested" in indrel("list", "s.indrel", "--state", "unread").stdout
    assert "nested" in indrel("explain", "/deep.html", "--from", "s.indrel").stdout


def test_a_deep_folder(indrel: Run, tmp_path: Path) -> None:
    """1,200 folders below one another: what is deeper than any site is left out, and named."""
    write_site(tmp_path / "b", {"index.html": html()})
    here = os.getcwd()
    os.chdir(tmp_path / "b")
    for _ in range(1_200):
        os.mkdir("d")
        os.chdir("d")
    os.chdir(here)
    try:
        done = indrel("audit", "b", "--base", HOST + "/", "--fail-on=never", code=0)
    finally:
        subprocess.run(
            ["rm", "-rf", tmp_path / "b"], check=True
        )  # what clears temporary folders goes no deeper than 1,000
    assert "1 skipped, such as d/d/d" in " ".join(done.stdout.split()) and "is more than 200 folders deep" in " ".join(
        done.stdout.split()
    )


def test_a_head_without_an_end(indrel: Run, tmp_path: Path) -> None:
    """A few hundred kilobytes of an archive that unpack to a head of 300 MB."""
    packed = zlib.compressobj(9, zlib.DEFLATED, 31)
    data = packed.compress(b"WARC/1.0\r\nWARC-Type: response\r\nX: ")
    data += b"".join(packed.compress(b"a" * (1 << 20)) for _ in range(300)) + packed.flush()
    (tmp_path / "x.warc.gz").write_bytes(data)
    assert "the head of a record has no end" in indrel("audit", "x.warc.gz", code=2).stderr


INTENTS = {
    "larger than 1 MiB": "# " + "x" * (1 << 20), "is not TOML": f'crawlers = ["*"]\nhosts = {"9" * 5_000}',
    "more than 32 dotted parts": "a." * 50_000 + "b = 1", "1: a key with": "[" + "a." * 50_000 + "b]", "not TOML:": "[" * 5_000,
}  # fmt: skip


@pytest.mark.parametrize("told", INTENTS)
def test_an_intent_file_that_is_made_to_be_slow(told: str, indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "indrel.toml").write_text(INTENTS[told])
    write_site(tmp_path / "b", {"index.html": html()})
    began = time.monotonic()
    done = indrel("audit", "b", "--base", HOST + "/", code=2)
    assert (
        told in done.stderr
        and "indrel.toml" in done.stderr
        and len(done.stderr) < 600
        and time.monotonic() - began < 10
    )


LEDGERS = {
    "is not a day": "INSERT INTO removal VALUES ('x', '2026-11-01', 'someday', '')",
    "is not an allowance": "INSERT INTO setting VALUES ('allowance', '1e99')",
    "has other tables": "CREATE TRIGGER t AFTER INSERT ON request BEGIN DELETE FROM removal; END",
}


@pytest.mark.parametrize("told", LEDGERS)
def test_a_ledger_that_is_not_as_it_was_written(told: str, indrel: Run, tmp_path: Path) -> None:
    Ledger(tmp_path / "indrel.ledger").__exit__(None, None, None)
    con = sqlite3.connect(tmp_path / "indrel.ledger")
    con.execute(LEDGERS[told])
    con.commit()
    con.close()
    for words in (("ledger", "status"), ("ledger", "request", URL)):
        done = indrel(*words, code=2)
        assert told in done.stderr and len(done.stderr.splitlines()) == 1


def test_many_equal_rules(tmp_path: Path) -> None:
    """39,000 equal rules, and 15,000 that nothing matches: at most as much as some thirty audits of one rule."""
    spent = []
    for rules in ("Disallow: /x\n", "Disallow: /x\n" * 39_000, "".join(f"Disallow: /X{n}\n" for n in range(15_000))):
        write_site(tmp_path / "b", {"index.html": html(), "x/1.html": html(), "robots.txt": f"User-agent: *\n{rules}"})
        began = sum(os.times()[2:4])
        words = [PROGRAM, "audit", "b", "--base", HOST + "/", "--save=s.indrel", "--fail-on=never"]
        subprocess.run(words, cwd=tmp_path, check=True, capture_output=True)  # a child of its own: its time is counted
        spent.append(sum(os.times()[2:4]) - began)
    print(f"CPU seconds: {spent}")
    assert max(spent) < 30 * spent[0]


def test_a_robots_file_of_any_size(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "robots.txt").write_bytes(b"User-agent: *\n" + b"Disallow: /some-path\n" * 1_000_000)
    shown = " ".join(indrel("robots", "check", "robots.txt").stdout.split())
    assert "at least 5,242,880 bytes: at least 2" in shown


def test_a_sheet_with_a_cell_far_out(tmp_path: Path) -> None:
    """Rows with one cell in the last of 16,384 columns are no wider to read than others."""
    cell = '<c r="{}{}" t="inlineStr"><is><t>{}</t></is></c>'
    rows = "".join(
        f'<row r="{n}">{cell.format("A", n, f"{HOST}/a?{n}")}{cell.format("XFD", n, "x")}</row>'
        for n in range(1, 20_000)
    )
    with xlsxwriter.Workbook(tmp_path / "s.xlsx") as book:
        book.add_worksheet()
    with (
        zipfile.ZipFile(tmp_path / "s.xlsx") as small,
        zipfile.ZipFile(tmp_path / "t.xlsx", "w", zipfile.ZIP_DEFLATED) as wide,
    ):
        for name in small.namelist():
            text = small.read(name).decode()
            wide.writestr(name, text.replace("<sheetData/>", f"<sheetData>{rows}</sheetData>"))
    began = time.process_time()
    found = list(rows_of(tmp_path / "t.xlsx"))
    assert len(found) == 19_999 and found[-1][0] == f"{HOST}/a?19999" and time.process_time() - began < 8
