"""Snapshots that are damaged, and snapshots that two processes write."""

from __future__ import annotations

import random
import subprocess
import time
from collections import Counter
from pathlib import Path

import duckdb
import pytest

from cases import HOST, a, html, robots
from conftest import PROGRAM, served
from indrel.base.errors import SnapshotError
from indrel.demo.server import DemoServer
from indrel.snapshot import Snapshot, SnapshotWriter, opening
from test_program import Run, write_site

QUESTIONS = (["audit"], ["list", "--from"], ["explain", "/a1.html", "--from"], ["report", "-o", "x.json", "--from"])
TRIED = 28


def damaged(whole: bytes, kind: int, at: random.Random) -> bytes:
    """Cut, with some octets changed, or with a block of nothing."""
    octets = bytearray(whole)
    if kind == 0:
        return whole[: at.randrange(20, len(whole))]
    places = {1: [at.randrange(12, 3 << 12)], 2: [at.randrange(len(whole)) for _ in range(60)]}.get(kind, [])
    for place in places:
        octets[place] ^= at.randrange(1, 256)
    if kind == 3:
        begin = at.randrange(1 << 12, len(whole) - 5_000)
        octets[begin : begin + 4_096] = bytes(4_096)
    return bytes(octets)


def test_damage_is_told(indrel: Run, tmp_path: Path) -> None:
    """A damaged snapshot is answered from where it is whole, or refused in a line; never a fault, never a hang."""
    pages = {f"a{n}.html": html(body=a(*(f"/a{k}.html" for k in range(n % 40)))) for n in range(120)}
    write_site(tmp_path / "b", {**pages, "robots.txt": "User-agent: *\nDisallow: /a3\n"})
    indrel("audit", "b", "--base", HOST + "/", "--snapshot", "s.indrel", "--fail-on", "never", code=0)
    whole, at = (tmp_path / "s.indrel").read_bytes(), random.Random(11)
    tally: Counter[str] = Counter()
    for number in range(TRIED):
        (tmp_path / "x.indrel").write_bytes(damaged(whole, number % 4, at))
        done = indrel(*QUESTIONS[number // 4 % 4], "x.indrel")
        last = done.stderr.strip().splitlines()[-1:] or [""]
        told = (
            "answered"
            if done.returncode in (0, 1)
            else "refused"
            if "damaged" in last[0] or "not a snapshot" in last[0]
            else last[0]
        )
        tally[told] += 1
    print(f"{TRIED} damaged snapshots: {dict(tally)}")
    assert set(tally) <= {"answered", "refused"} and tally["refused"] > TRIED / 3


def test_two_audits_into_one_snapshot(tmp_path: Path) -> None:
    """The second is refused in a line and takes nothing from the first."""
    pages = {"/": html(body=a(*(f"/p{n}" for n in range(30)))), "/robots.txt": robots()} | {
        f"/p{n}": html() for n in range(30)
    }
    with DemoServer(site=served(pages)) as server:
        options = [o for c in server.connect for o in ("--connect", c)]
        command = [
            PROGRAM,
            "audit",
            HOST + "/",
            "--rate",
            "8",
            "--snapshot",
            "s.indrel",
            "--fail-on",
            "never",
            *options,
        ]
        first = subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while not (tmp_path / "s.indrel").exists():
            time.sleep(0.05)
        time.sleep(0.5)
        second = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=60)
        assert second.returncode == 2 and "s.indrel is being written by another process" in second.stderr
        assert first.wait(60) == 0
    listed = subprocess.run([PROGRAM, "list", "--from", "s.indrel"], cwd=tmp_path, capture_output=True, text=True)
    assert ": 31 URLs" in listed.stdout


MALICE = {
    "a view in place of a table": "ALTER TABLE page RENAME TO p2; CREATE VIEW page AS SELECT * FROM read_text('/etc/hostname')",
    "a view beside the tables": "CREATE VIEW extra AS SELECT 1",
    "a generated column": "CREATE TABLE t (x INTEGER, y INTEGER AS (x + 1)); DROP TABLE slip; ALTER TABLE t RENAME TO slip",
    "a table more": "CREATE TABLE extra (x INTEGER)",
    "a table less": "DROP TABLE slip",
    "a column of another type": "ALTER TABLE page ALTER title TYPE BLOB",
    "another schema": "CREATE SCHEMA s; CREATE TABLE s.t (x INTEGER)",
    "a default": "ALTER TABLE page ALTER title SET DEFAULT 'x'",
    "meta as a view": "ALTER TABLE meta RENAME TO m; CREATE VIEW meta AS SELECT name, value FROM range(100000000000), m",
    "a trigger": "CREATE TRIGGER t AFTER INSERT ON page FOR EACH STATEMENT INSERT INTO given "
    "SELECT 1, content FROM read_text('/etc/hostname')",
    "a macro": "CREATE MACRO lower(a) AS -7",
    "a table macro": "CREATE MACRO duckdb_triggers() AS TABLE SELECT 'x' AS database_name, true AS internal",
    "an index": "CREATE INDEX i ON page (address)",
    "a constraint": "ALTER TABLE page ALTER address SET NOT NULL",
    "a key": "ALTER TABLE page ADD PRIMARY KEY (address)",
    "a type": "CREATE TYPE mood AS ENUM ('a', 'b')",
    "a sequence": "CREATE SEQUENCE s",
    "a comment": "COMMENT ON TABLE page IS 'x'",
    "a comment on a column": "COMMENT ON COLUMN page.title IS 'x'",
    "more rows than bytes": "INSERT INTO slip SELECT 1, 'rel', 'x', 1, 'x' FROM range(30000000)",
}  # fmt: skip


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    folder = tmp_path_factory.mktemp("small")
    write_site(folder / "b", {"index.html": html(body=a("/x.html")), "x.html": html()})
    command = [PROGRAM, "audit", "b", "--base", HOST + "/", "--snapshot", "s.indrel", "--fail-on", "never", "-q"]
    assert subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, timeout=60).returncode == 0
    return (folder / "s.indrel").read_bytes()


def altered(path: Path, whole: bytes, sql: str) -> Path:
    path.write_bytes(whole)
    with duckdb.connect(":memory:") as con:
        con.execute(f"ATTACH '{path}' AS bad; USE bad")
        con.execute(sql)
    return path


@pytest.mark.parametrize("what", MALICE)
def test_a_strangers_snapshot_is_data(what: str, small: bytes, indrel: Run, tmp_path: Path) -> None:
    """A file that holds anything but an audit's tables is refused, whether it is read or written to."""
    bad = altered(tmp_path / "bad.indrel", small, MALICE[what])
    for command in (
        ("list", bad), ("explain", "/a", "--from", bad), ("report", bad, "-o", "x.csv"), ("recheck", bad),
        ("audit", HOST + "/", "--resume", "--snapshot", bad),
    ):  # fmt: skip
        done = indrel(*command, code=2)
        assert ("not a snapshot" in done.stderr or "more than the file has bytes" in done.stderr) and not done.stdout


def test_what_a_later_database_can_hold_is_refused_too(
    small: bytes, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A catalogue that is not known here is asked; and every one that the database has today is known."""
    with duckdb.connect() as con:
        names = "SELECT function_name FROM duckdb_functions() WHERE function_type = 'table' AND starts_with(function_name, 'duckdb_')"
        found = {name for (name,) in con.execute(f"{names} AND len(parameters) = 0").fetchall()}
    assert found == opening._CATALOGUE
    bad = altered(tmp_path / "bad.indrel", small, MALICE["a trigger"])
    monkeypatch.setattr(opening, "_NEVER", {k: v for k, v in opening._NEVER.items() if k != "trigger"})
    monkeypatch.setattr(opening, "_CATALOGUE", opening._CATALOGUE - {"duckdb_triggers"})
    for opened in (lambda: Snapshot(bad), lambda: SnapshotWriter(bad, resume=True)):
        with pytest.raises(SnapshotError, match="entry of duckdb_triggers"):
            opened()


VALUES = {
    "base": ("5", '"x"', '"javascript:x"'), "hosts": ("null", "[1]", '"x"'), "crawlers": ('{"a": 1}',),
    "started": ('"today"', "1"), "source": ("[]", '{"kind": 1, "location": "x"}'), "schema": ('"6"', "-1", "1e99"),
    "notes": ("[" * 50_000,), "bounded": ('{"a": -1}',), "rendered": ('{"groups": 5}',), "complete": ("nope",),
    "intent": ('{"where": "x"}',), "decided": ("[1]",),
}  # fmt: skip


def test_values_of_the_wrong_kind(small: bytes, indrel: Run, tmp_path: Path) -> None:
    for name, values in VALUES.items():
        for value in values:
            sql = f"DELETE FROM meta WHERE name = '{name}'; INSERT INTO meta VALUES ('{name}', '{value}')"
            bad = altered(tmp_path / "bad.indrel", small, sql)
            for command in (("list", bad), ("recheck", bad)):
                done = indrel(*command, code=2)
                assert "bad.indrel" in done.stderr and len(done.stderr.splitlines()) == 1, (
                    name,
                    value[:20],
                    done.stderr,
                )


CONTENTS = (
    "UPDATE address SET origin = 'x'", "UPDATE address SET path = NULL", "UPDATE address SET id = -5",
    "UPDATE address SET id = 2000000000", "UPDATE address SET id = 0", "UPDATE robots SET origin = NULL", "UPDATE robots SET hops = NULL",
    "UPDATE link SET target = -1", "UPDATE page SET address = 999999999", "UPDATE finding SET crawlers = NULL",
    "UPDATE cause SET severity = 200", "UPDATE cause SET check_id = 'no-such'", "UPDATE directive SET tokens = NULL",
    "UPDATE entry SET loc = NULL", "UPDATE fact SET want = 'x'", "UPDATE answer SET status = -1", "UPDATE reason SET kind = 'x'",
)  # fmt: skip


@pytest.mark.parametrize("sql", CONTENTS)
def test_contents_that_no_audit_writes(sql: str, small: bytes, indrel: Run, tmp_path: Path) -> None:
    """Every command answers or says in a line what is wrong with the file; none fails with a fault of its own."""
    bad = altered(tmp_path / "bad.indrel", small, sql)
    for command in (("list", bad), ("explain", "/", "--from", bad), ("audit", bad), ("audit", bad, "--crawler", "x")):
        assert indrel(*command).returncode in (0, 1, 2, 3)
