"""Decided rows: kept with the snapshot, served for their own key alone, and what `explain` tells is what they rest on."""

from __future__ import annotations

import json
import runpy
import sys
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

import duckdb
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cases import BASE, HOST, NOINDEX, a, canonical, entries, html, loc, robots, sitemap
from conftest import AuditSite, lines_of, read
from indrel.ask.addresses import Filters, listed
from indrel.ask.explain import explain
from indrel.checks import findings, findings_of, verdict_of, verdict_store
from indrel.checks.run import judge
from indrel.core.crawlers import resolve
from indrel.core.model import State
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site
from indrel.snapshot import Snapshot, SnapshotWriter
from indrel.snapshot.schema import TABLES
from test_program import Run

PAGES = {
    **BASE,
    "/": html(canonical("/"), a("/a", "/b", "/c", "/x/1", "/gone")),
    "/robots.txt": robots("Disallow: /x/", f"Sitemap: {HOST}/sitemap.xml"),
    "/sitemap.xml": sitemap("/", "/a", "/b", "/x/1"),
    "/a": html(NOINDEX),
    "/b": html(canonical("/c")),
    "/c": html('<meta name="bingbot" content="noindex">'),
}
CRAWLERS = resolve(("googlebot", "bingbot", "*"))


def opened(path: Path, names: tuple[str, ...] = ("googlebot", "bingbot", "*"), **more: Any) -> Site:
    return Site(Snapshot(path), resolve(names), **more)


def test_what_is_kept_is_what_was_decided(audit_site: AuditSite) -> None:
    site, verdict = audit_site(PAGES)
    path = Path(site.snapshot.path)
    again = opened(path)
    assert again.decided and verdict_of(again) == verdict
    fresh = judge(opened(path, instead={HOST + "/other": (b"", "x")}))
    assert fresh.findings == verdict.findings and fresh.causes == verdict.causes and fresh.states == verdict.states
    for finding in verdict.findings:
        assert finding in findings_of(again, finding.url)


def test_an_entry_is_told_as_it_is_written_and_found_by_its_address(audit_site: AuditSite) -> None:
    written = {"HTTPS://WWW.SARNFELL.EXAMPLE": "/", f"{HOST}/hütte": "/h%C3%BCtte", f"{HOST}:443/a/../b%7E": "/b~"}
    odd = [f"{HOST}:x/", f"{HOST}{HOST}", "https://other.example:/x", "https://", "/c", "http://[::1/x"]
    pages = {path: html(canonical("/end")) for path in written.values()}
    site, verdict = audit_site({**BASE, **pages, "/end": html(), "/sitemap.xml": entries(*map(loc, [*written, *odd]))})
    assert not verdict.crashed
    folded = {f.url: f.address for f in verdict.findings if f.check == "listed-folded"}
    assert folded == {url: HOST + path for url, path in written.items()}
    again = opened(Path(site.snapshot.path))
    assert {row.url for row in listed(again, Filters(checks=("listed-folded",)))} == set(folded.values())
    for row in listed(again):
        told = {f.check for f in explain(again, row.url, findings_of(again, row.url)).findings if f.address == row.url}
        assert set(row.checks) == told and ("listed-folded" in told) == (row.url in folded.values())


@pytest.mark.parametrize("held", [0, 3])
def test_many_findings_are_read_as_they_are_asked_for(
    held: int, audit_site: AuditSite, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Beyond a bound findings are rows from the start: what is told is the same, judged, kept and read again."""
    text = '[[accept]]\ncheck = "listed-barred"\nbecause = "meant"\n'
    site, whole = audit_site(PAGES, intent=text)
    path = Path(site.snapshot.path)
    site.close()
    SnapshotWriter(path, resume=True).close()  # what was decided is forgotten
    for module, name, bound in (
        (findings, "MOST_HELD", held),
        (findings, "AT_ONCE", 2),
        (verdict_store, "MOST_HELD", held),
    ):
        monkeypatch.setattr(module, name, bound)
    other = {HOST + "/other": (b"", "x")}
    for instead in (other, None, None):  # judged and not kept, judged and kept, read from what was kept
        site = opened(path, intent=read(text, tmp_path), instead=instead)
        verdict = verdict_of(site)
        assert isinstance(verdict.findings, findings.Rows) and len(verdict.findings) == len(whole.findings) > 6
        assert tuple(verdict.findings) == whole.findings and verdict.tally == whole.tally
        assert verdict.headline == whole.headline and any(c.accepted for c in verdict.causes)
        assert [replace(c, findings=tuple(c.findings)) for c in verdict.causes] == list(whole.causes)
        assert tuple(verdict.findings[1:5][1:]) == whole.findings[2:5] and verdict.findings[-1] == whole.findings[-1]
        site.close()


def test_another_key_is_decided_anew_and_the_old_answer_never_served(audit_site: AuditSite, tmp_path: Path) -> None:
    site, verdict = audit_site(PAGES)
    path = Path(site.snapshot.path)
    site.close()
    others: list[dict[str, Any]] = [
        {"names": ("bingbot",)}, {"names": ("*", "googlebot", "bingbot")},
        {"intent": read('[[want]]\nmatch = "/a"\nwant = "hide"\n', tmp_path)},
        {"instead": {HOST: (b"User-agent: *\nDisallow: /a\n", "new.txt")}},
    ]  # fmt: skip
    for other in others:
        changed = opened(path, **other)
        assert changed.decided is None
        assert verdict_of(changed).states != verdict.states or verdict_of(changed).findings != verdict.findings
        changed.close()
        back = opened(path)
        assert verdict_of(back) == verdict  # whatever was kept in between
        back.close()
    with SnapshotWriter(path, resume=True) as writer:
        writer.add("directive", [(2, 0, "", True, False, ["noindex"], [], [], None, None, False, 1, "<meta>")])
    assert opened(path).decided is None


def test_an_acceptance_ends_on_its_day(audit_site: AuditSite, tmp_path: Path) -> None:
    intent = read('[[accept]]\ncheck = "link-to-gone"\nbecause = "soon"\nuntil = 2026-12-01\n', tmp_path)
    path = Path(audit_site(PAGES)[0].snapshot.path)
    for day, is_accepted in ((date(2026, 12, 1), True), (date(2026, 12, 2), False)) * 2:
        site = opened(path, intent=intent, today=day)
        found = [f for f in verdict_of(site).findings if f.check == "link-to-gone"]
        assert [bool(f.accepted) for f in found] == [is_accepted]
        site.close()


def test_a_file_that_cannot_be_written_answers_all_the_same(audit_site: AuditSite, tmp_path: Path, indrel: Run) -> None:
    (tmp_path / "s.indrel").write_bytes(Path(audit_site(PAGES)[0].snapshot.path).read_bytes())
    first = indrel("list", "s.indrel", "--json", "--crawler", "bingbot").stdout
    holder = duckdb.connect(":memory:")
    holder.execute(
        f"ATTACH '{tmp_path / 's.indrel'}' AS held (READ_ONLY)"
    )  # another process reads: nothing can be kept
    assert lines_of(indrel("list", "s.indrel", "--json").stdout)
    assert indrel("list", "s.indrel", "--json", "--crawler", "bingbot").stdout == first
    holder.close()


def test_a_snapshot_reaches_no_other_file(audit_site: AuditSite) -> None:
    con = audit_site(PAGES)[0].con
    for sql in (
        "SELECT * FROM read_text('/etc/hostname')",
        "COPY fact TO '/tmp/x.csv'",
        "SET lock_configuration = false",
    ):
        with pytest.raises(duckdb.Error):
            con.execute(sql)


# ---------------------------------------------------------------- what explain says is what the state rests on

_PATHS = [f"/{c}{d}" for c in "ab" for d in ("", "/x", "?q=1")]
_RULES = st.lists(
    st.tuples(st.sampled_from(("allow", "disallow")), st.sampled_from(("/", "/a", "/a/", "/*x", "/b$", "/*?", "/a/x"))),
    max_size=4,
)
_TAGS = st.lists(
    st.tuples(
        st.sampled_from(("", "googlebot", "bingbot")),
        st.sampled_from(("noindex", "index", "nofollow")),
        st.integers(0, 1),
    ),
    max_size=3,
)
_PAGE = st.tuples(
    st.sampled_from((200, 200, 200, 404, 401, 503, None, 301)),
    _TAGS,
    st.lists(st.integers(0, len(_PATHS) - 1), max_size=2),
)


def written(path: Path, groups: dict[str, list[tuple[str, str]]], pages: list[Any]) -> None:
    """A snapshot from values, without a server: addresses, answers, tags and canonicals as given."""
    body = "".join(
        f"User-agent: {agent}\n" + "".join(f"{k}: {v}\n" for k, v in rules) for agent, rules in groups.items()
    )
    with SnapshotWriter(path) as writer:
        writer.set_meta(
            source={"kind": "site", "location": HOST}, base=HOST + "/", started="2026-11-25T00:00:00Z", complete=True
        )
        writer.add(
            "robots",
            [(HOST, 200, None, "text/plain", [], HOST + "/robots.txt", body.encode(), False, "site", True, None)],
        )
        for number, (status, tags, canonicals) in enumerate(pages):
            to = canonicals[0] if status == 301 and canonicals else None
            where = HOST + _PATHS[to] if to is not None else None
            writer.add("address", [(number, HOST, _PATHS[number], True)])
            error = "refused" if status is None else None
            writer.add("answer", [(number, status, error, "text/html", to, where, 0, False, None, "", None)])
            if status == 200:
                writer.add("directive", [(number, o, s, t == "noindex", t == "nofollow", [t], [], [], None, None, False,
                                          None if o else n + 1, f"{s} {t} {n}") for n, (s, t, o) in enumerate(tags)])  # fmt: skip
                writer.add(
                    "canonical",
                    [(number, 0, _PATHS[c], c, None, False, n + 9, f"canonical {n}") for n, c in enumerate(canonicals)],
                )


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.dictionaries(st.sampled_from(("*", "googlebot", "bingbot")), _RULES, max_size=3),
    st.lists(_PAGE, min_size=len(_PATHS), max_size=len(_PATHS)),
)
def test_explain_says_what_the_state_rests_on(tmp_path: Path, groups: Any, pages: list[Any]) -> None:
    path = tmp_path / "random.indrel"
    written(path, groups, pages)
    with Snapshot(path) as snapshot:
        site = Site(snapshot, CRAWLERS)
        behind = reasons(site, range(len(_PATHS)))
        for number, url in enumerate(HOST + p for p in _PATHS):
            told = explain(site, url)
            for index, crawler in enumerate(CRAWLERS):
                state = told.states[crawler.token]
                by = decides(behind.get(number, ()), index)
                steps = {s.step: s for s in told.steps[crawler.token]}
                assert list(steps["state"].evidence) == by and bool(by) is (state != State.OPEN)
                allowed, rule, _ = site.rule_for(url, crawler)
                assert (state == State.BARRED) is not allowed
                if state == State.BARRED:
                    assert (
                        steps["rule"].evidence[0] == by[0]
                        and rule
                        and (by[0].line, by[0].text) == (rule.line, rule.text)
                    )
                elif state == State.HIDDEN:
                    said = {e for e in steps["directives"].evidence if "noindex" in e.text}
                    assert set(by) == said
                elif state == State.FOLDED and pages[number][0] == 200:
                    assert set(by) == set(steps["canonical"].evidence) and told.folds_into is not None
                elif state in (State.GONE, State.LOCKED):
                    assert by[0] in steps["answer"].evidence


def test_the_list_names_what_decides(audit_site: AuditSite, tmp_path: Path, indrel: Run) -> None:
    (tmp_path / "s.indrel").write_bytes(Path(audit_site(PAGES)[0].snapshot.path).read_bytes())
    rows = {r["url"].removeprefix(HOST): r for r in lines_of(indrel("list", "s.indrel", "--json").stdout)}
    assert rows["/a"]["by"][0]["kind"] == "tag" and rows["/a"]["by"][0]["crawlers"] == ["googlebot", "bingbot", "*"]
    assert rows["/c"]["by"][0]["crawlers"] == ["bingbot"] and rows["/"]["by"] == []
    assert [(b["kind"], b["line"], b["text"]) for b in rows["/x/1"]["by"]] == [("robots", 2, "Disallow: /x/")]
    assert "listed-hidden" in rows["/a"]["checks"]

    def urls(*options: str) -> set[str]:
        return {
            r["url"].removeprefix(HOST) for r in lines_of(indrel("list", "s.indrel", "--json", *options, code=0).stdout)
        }

    assert urls("--by", "tag") == {"/a", "/c"} and urls("--by", "canonical") == {"/b"}
    assert urls("--check", "listed-hidden") == {"/a"} and urls("--state", "hidden", "--crawler", "*") == {"/a"}
    table = indrel("list", "s.indrel", "--by", "tag", "--columns", "url,where,text").stdout.splitlines()
    assert table[1].split() == ["url", "where", "text"] and NOINDEX in table[2]
    indrel("list", "s.indrel", "--by", "tag", "-o", "x.csv", "-o=x.xlsx", "--sort", "where", code=0)
    assert NOINDEX.replace('"', '""') in (tmp_path / "x.csv").read_text()
    assert "Did you mean `googlebot`?" in indrel("list", "s.indrel", "--crawler", "gogglebot", code=0).stderr
    assert "Did you mean" not in indrel("list", "s.indrel", "--crawler", "my-own-robot", code=0).stderr
    for option, word, said in (("--check", "listed-hiden", "Did you mean listed-hidden?"), ("--section", "/y/*", "/x/*"),
                               ("--columns", "urls", "Did you mean url?"), ("--sort", "size", "status")):  # fmt: skip
        assert said in indrel("list", "s.indrel", option, word, code=2).stderr


def test_the_list_names_what_the_first_line_counts(demo: Path, indrel: Run) -> None:
    (snapshot,) = (demo / "indrel-runs").iterdir()
    report = json.loads((demo / "indrel-demo/report.json").read_text())

    def urls(*options: str) -> set[str]:
        return {
            row["url"].removeprefix("https://www.sarnfell.example")
            for row in lines_of(indrel("list", snapshot, "--json", *options).stdout)
        }

    verdict = report["verdict"]
    for option, key in ((["--lost"], "lost"), (["--exposed"], "exposed"), (["--class", "conflict"], "conflicts"),
                        (["--class", "flaw"], "faults")):  # fmt: skip
        assert len(urls(*option)) == verdict[key] > 0, option
    assert "/robots.txt" in urls("--class", "flaw") and "/robots.txt" in urls("--check", "robots-bad-path")
    assert "/robots.txt" not in urls("--class", "flaw", "--want", "any")  # with another filter these are pages alone
    grave = {f["url"] for f in report["findings"] if f["class"] == "blocked" and f["severity"] in ("stop", "fix")}
    assert len(urls("--class", "blocked")) == len(grave)
    assert (
        urls("--lost", "--match", "/bookings/*") == {u for u in urls("--lost") if u.startswith("/bookings/")} != set()
    )
    assert urls("--match", "//wardens.sarnfell.example") and not urls("--match", "/nothing*")
    assert urls("--has", "noindex") > urls("--state", "hidden", "--crawler", "*")
    assert "a pattern begins with `/`" in indrel("list", snapshot, "--match", "huts", code=2).stderr
    flaws = indrel("list", snapshot, "--class", "flaw").stdout
    assert "robots-bad-path" in flaws and ": 24 URLs" in flaws
    for crawler, states in report["counts"]["states"].items():
        assert sum(report["counts"]["folded_by"][crawler].values()) == states["folded"]


def test_a_file_without_tables_says_what_to_do(indrel: Run, tmp_path: Path) -> None:
    duckdb.connect(str(tmp_path / "s.indrel")).close()  # as a kill leaves it before the tables are made
    for words in (["audit", f"{HOST}/", "--resume", "--snapshot", "s.indrel"], ["list", "s.indrel"]):
        assert "is empty: its audit ended at once; run the audit without --resume" in indrel(*words, code=2).stderr


def test_the_generated_snapshot_of_the_benchmarks_is_one(tmp_path: Path) -> None:
    """The benchmarks write tables themselves: a column more must not break them unseen."""
    made = runpy.run_path(str(Path(__file__).parents[1] / "bench" / "snapshot.py"))
    made["generate"](tmp_path / "s.indrel", 400, 4_000)
    site = Site(Snapshot(tmp_path / "s.indrel"), resolve(["*"]))
    assert {"link-to-gone", "barred-to-hide", "canonical-unlike"} <= {f.check for f in judge(site).findings}
    site.close()


def test_rows_are_the_same_however_they_are_given(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A few rows go in as lists where the array library is not loaded: all kinds of columns, of every table."""
    with Snapshot(next(demo.rglob("*.indrel"))) as site:
        rows = {table: site.rows(f"SELECT * FROM {table} LIMIT 100") for table in TABLES}
    assert sum(1 for some in rows.values() if some) > 10
    told = []
    for name in ("arrays", "lists"):
        if name == "lists":
            monkeypatch.delitem(sys.modules, "pyarrow")
        with SnapshotWriter(tmp_path / f"{name}.indrel") as writer:
            for table, some in rows.items():
                writer.add(table, some)
        assert ("pyarrow" in sys.modules) is (name == "arrays")
        with Snapshot(tmp_path / f"{name}.indrel") as site:
            told.append(
                {table: site.rows(f"SELECT * FROM {table} ORDER BY ALL") for table in TABLES if table != "meta"}
            )
    assert told[0] == told[1]


def test_urls_are_counted_by_what_they_share(indrel: Run, audit_site: AuditSite) -> None:
    snapshot = audit_site(PAGES)[0].snapshot.path
    for by, groups in (
        ("state", {"open": 2, "barred": 1, "hidden": 1, "folded": 1, "gone": 1}), ("section", {"/*": 4, "/": 1, "/x/*": 1}),
        ("check", {"listed-barred": 1, "listed-hidden": 1}),
    ):  # fmt: skip
        told = lines_of(indrel("list", "--from", snapshot, "--group-by", by, "--json", code=0).stdout)
        assert groups.items() <= {row["group"]: row["count"] for row in told}.items(), told
    assert "wanted" in indrel("list", "--from", snapshot, "--group-by", "state", "--match", "/x*", code=0).stdout
    assert "write one of section" in indrel("list", "--from", snapshot, "--group-by", "colour", code=2).stderr


def test_several_urls_are_explained_and_a_near_miss_is_offered(indrel: Run, audit_site: AuditSite) -> None:
    snapshot = audit_site(PAGES)[0].snapshot.path
    told = lines_of(indrel("explain", "/a", "/b", "/A/", "--from", snapshot, "--json", code=0).stdout)
    assert [one["url"].removeprefix(HOST) for one in told] == ["/a", "/b", "/A/"]
    assert [one["near"] for one in told] == [[], [], [HOST + "/a"]]
    assert (
        "/a is known: did you mean that?"
        in indrel("explain", "http://sarnfell.example/a.html", snapshot, code=0).stdout
    )
    text = indrel("explain", snapshot, "/a", "/x/1", code=0).stdout
    assert text.count("wanted: ") == 2 and "is hidden" in text and "is barred" in " ".join(text.split())
