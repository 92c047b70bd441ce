"""Writing and opening snapshots: what does not fit, what is older, what is a stranger's."""

from __future__ import annotations

import gzip
import json
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cases import HOST, a, html
from indrel.base.errors import Interrupted, SnapshotError
from indrel.checks import verdict_of
from indrel.core.crawlers import resolve
from indrel.decide.site import Site
from indrel.gather.recorder import Recorder
from indrel.snapshot import Snapshot, SnapshotWriter
from indrel.snapshot.columns import Masked
from indrel.snapshot.faults import explained
from indrel.snapshot.schema import DECIDED, FORMATS, TABLES, VERSION, Format
from test_program import Run, write_site

_FITS: dict[str, Any] = {"BLOB": b"x", "VARCHAR[]": ["x"], "BOOLEAN": True, "DOUBLE": 0.5, "VARCHAR": "x"}
_MOST = {"SMALLINT": 1 << 15, "INTEGER": 1 << 31, "BIGINT": 1 << 63, "UTINYINT": 1 << 8, "UBIGINT": 1 << 64}
_ODD = st.one_of(
    st.integers(-(1 << 70), 1 << 70), st.text(st.characters(codec=None), max_size=4), st.binary(max_size=4), st.floats(),
    st.sampled_from([object(), {"a": 1}, "\ud800", [1, "x"], [["x"]], (1 << 200)]),
)  # fmt: skip
_PLACES = [(table, column) for table, columns in TABLES.items() if table != "meta" for column in columns]


@pytest.fixture(scope="module")
def writer(tmp_path_factory: pytest.TempPathFactory) -> Any:
    with SnapshotWriter(tmp_path_factory.mktemp("odd") / "s.indrel") as found:
        yield found


@given(st.sampled_from(_PLACES), _ODD, st.integers(0, 2), st.booleans())
def test_a_value_that_does_not_fit_costs_its_own_row(writer: Any, at: Any, odd: Any, where: int, columns: bool) -> None:
    """Whatever is added to whichever column: the rows beside it are written, and the row itself is written or named."""
    table, column = at
    kinds = TABLES[table]
    rows = [[_FITS.get(kind, n) for kind in kinds.values()] for n in range(3)]
    rows[where][list(kinds).index(column)] = odd
    before = writer.con.execute(f"SELECT count(*) FROM {table}").fetchall()[0][0]
    writer.refused = []
    if columns:
        writer.add_columns(table, list(zip(*rows, strict=True)))
    else:
        writer.add(table, rows)
    writer.commit()
    written = writer.con.execute(f"SELECT count(*) FROM {table}").fetchall()[0][0] - before
    assert written + len(writer.refused) == 3 and len(writer.refused) <= 1
    assert all(one.table == table and list(one.row) == rows[where] for one in writer.refused) or odd != odd


@pytest.mark.parametrize("kind", _MOST)
def test_every_number_beyond_its_column_is_refused(writer: Any, kind: str) -> None:
    for table, column in _PLACES:
        if TABLES[table][column] == kind:
            row = [_FITS.get(k, 1) for k in TABLES[table].values()]
            for value, refused in ((_MOST[kind] - 1, 0), (_MOST[kind], 1), (-_MOST[kind] - 1, 1)):
                writer.refused = []
                row[list(TABLES[table]).index(column)] = value
                writer.add(table, [list(row)])
                writer.commit()
                assert len(writer.refused) == refused, (table, column, value)


def test_a_url_whose_facts_do_not_fit_is_unread(tmp_path: Path) -> None:
    """The URL of a refused row loses all its facts and keeps the reason; its neighbours, and columns beside it, stay."""
    with SnapshotWriter(tmp_path / "s.indrel") as writer:
        recorder = Recorder(writer, ["www.sarnfell.example"])
        writer.set_meta(crawlers=["*"])
        for name in ("a", "b", "c"):
            url = f"https://www.sarnfell.example/{name}"
            writer.add("answer", [recorder.answer_row(url, 200 if name != "b" else 1 << 20)])
        line = np.array([0, 3, 4], dtype=np.int32)
        writer.add_columns("link", [[0, 1, 2], [1, 2, 0], [0, 0, 0], Masked(line, line == 0), ["x", "\ud800", "y"]])
        robots = recorder.writer.add
        robots(
            "robots", [("https://api.sarnfell.example", 1 << 40, None, "", [], "", b"", False, "resource", True, None)]
        )
        recorder.commit(force=True)
        assert set(recorder.unkept) == {"https://www.sarnfell.example/b", "https://api.sarnfell.example/robots.txt"}
    with Snapshot(tmp_path / "s.indrel") as found:
        assert found.rows("SELECT address, status FROM answer ORDER BY 1") == [(0, 200), (2, 200)]
        assert found.rows("SELECT source, line FROM link ORDER BY 1") == [(0, None), (2, 4)]
        ((number, problem),) = found.rows("SELECT address, problem FROM page")
        assert number == 1 and problem.startswith("could not be kept: ")
        assert found.rows("SELECT origin, status, known FROM robots") == [("https://api.sarnfell.example", None, False)]


# ---------------------------------------------------------------- formats

DATA = Path(__file__).parent / "data"


def of_format(number: int, folder: Path) -> Path:
    path = folder / f"format-{number}.indrel"
    path.write_bytes(gzip.decompress((DATA / f"{path.name}.gz").read_bytes()))
    return path


def facts(path: Path) -> dict[str, Any]:
    with Snapshot(path) as found:
        return {table: sorted(map(repr, found.rows(f"SELECT * FROM {table}"))) for table in TABLES if table != "meta"}


@pytest.mark.parametrize("number", FORMATS)
def test_a_snapshot_of_every_format_is_read(number: int, indrel: Any, tmp_path: Path) -> None:
    """Each format since 6 answers every query as today's does, and no query changes a fact of it."""
    path, newest = of_format(number, tmp_path), of_format(VERSION, tmp_path)
    before = facts(path)
    report = json.loads(indrel("audit", path, "--json", "--fail-on=never", code=0).stdout)
    assert report["verdict"]["lost"] == 2 and report["counts"]["findings"] == {"stop": 0, "fix": 3, "ask": 1, "note": 0}
    rows = [json.loads(line) for line in indrel("list", path, "--json", code=0).stdout.splitlines()]
    assert {r["url"].rpartition("/")[2]: r["states"]["*"] for r in rows if r["states"]["*"] != "open"} == {
        "": "hidden", "over-sarn.html": "folded", "old.html": "barred", "gone.html": "gone",
    }  # fmt: skip
    assert "Disallow: /old" in indrel("explain", "/old.html", "--from", path, code=0).stdout
    compared = json.loads(indrel("compare", path, newest, "--json", code=0).stdout)
    assert compared["states"] == [] and compared["findings_new"] == [] and compared["findings_gone"] == []
    assert indrel("history", "--in", tmp_path, code=0).stderr == ""
    assert facts(path) == before


def test_an_older_format_lacks_what_it_does_not_know(
    indrel: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A column and a table that came later are null and empty in an older file; it is brought up to date only to be gone on with."""
    path = of_format(VERSION, tmp_path)
    had = {table: dict(columns) for table, columns in TABLES.items() if table != "elsewhere"}
    del had["page"]["heading"]
    with duckdb.connect(str(path)) as con:
        con.execute(
            "DROP TABLE elsewhere; ALTER TABLE page DROP COLUMN heading; UPDATE meta SET value = '5' WHERE name = 'schema'"
        )
    with pytest.raises(SnapshotError, match="much older Indrel"):
        Snapshot(path)
    monkeypatch.setitem(FORMATS, 5, Format(had, DECIDED))
    with Snapshot(path) as old:
        assert old.rows("SELECT DISTINCT heading FROM page") == [(None,)] and old.rows("SELECT * FROM elsewhere") == []
        assert old.meta["decided"] is None and verdict_of(Site(old, resolve(["*"]))).headline.lost == 2
    with SnapshotWriter(path, resume=True) as writer:
        assert writer.meta["schema"] == VERSION
    with Snapshot(path) as now:
        assert not now.is_older and now.rows("SELECT count(heading), count(*) FROM page") == [(0, 4)]


def test_the_newest_format_is_kept_as_a_file() -> None:
    assert {f"format-{n}.indrel.gz" for n in FORMATS} == {p.name for p in DATA.glob("format-*")} and max(
        FORMATS
    ) == VERSION


def test_what_aborted_a_transaction_says_why() -> None:
    """An interrupt within a transaction: what is asked of the connection on the way out fails with an error of its own."""
    con = duckdb.connect()
    con.execute("BEGIN")
    with pytest.raises(duckdb.Error):
        con.execute("SELECT error('stopped')")
    with pytest.raises(duckdb.TransactionException) as told:
        try:
            raise KeyboardInterrupt
        finally:
            con.execute("USE memory")
    assert isinstance(explained(told.value), Interrupted)
    told.value.__context__ = None
    assert explained(told.value) is None


def test_a_small_site_has_a_small_snapshot(indrel: Run, tmp_path: Path) -> None:
    names = [f"p{n}.html" for n in range(12)]
    write_site(
        tmp_path / "b",
        {"index.html": html(body=a(*(f"/{name}" for name in names))), **{name: html() for name in names}},
    )
    indrel("audit", "b", "--base", HOST + "/", "--snapshot", "s.indrel", "-q", code=None)
    assert (tmp_path / "s.indrel").stat().st_size < 512 << 10
