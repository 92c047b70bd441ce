"""Indrel as a library: typed objects, frames with the columns that are documented, the example in docs/."""

from __future__ import annotations

import re
import subprocess
import sys
from importlib import metadata
from pathlib import Path

import pytest

import indrel
from cases import BASE, HOST, NOINDEX, a, html, sitemap
from conftest import PROGRAM, AuditSite
from indrel.base.errors import InputError, SnapshotError, UsageError
from indrel.core.model import Cause, Verdict
from indrel.reports import check_endings
from test_program import write_site

EXAMPLE = Path(__file__).parents[1] / "docs/library.py"


def test_frames(audit_site: AuditSite, tmp_path: Path) -> None:
    pages = {**BASE, "/": html(body=a("/a", "/a", "/old")), "/a": html(NOINDEX), "/sitemap.xml": sitemap("/", "/alone")}
    site, _ = audit_site({**pages, "/alone": html()})
    with indrel.open_snapshot(site.snapshot.path, crawlers=["googlebot", "*"]) as audit:
        frame = audit.addresses()
        assert list(frame.columns) == [
            "url", "kind", "section", "want", "stated", "googlebot", "*", "status", "media_type", "folds_into", "listed",
            "followed", "unfollowed", "clicks", "by", "where", "line", "text", "checks",
        ]  # fmt: skip
        rows = frame.set_index(frame["url"].str.removeprefix(HOST))
        assert rows["*"].to_dict() == {"/": "open", "/a": "hidden", "/alone": "open", "/old": "gone"}
        assert rows["clicks"].astype(object).where(rows["clicks"].notna(), None).to_dict() == {
            "/": 0, "/a": 1, "/alone": None, "/old": 1,
        }  # fmt: skip
        assert rows.loc["/a", "status"] == 200 and rows.loc["/alone", "listed"] and rows.loc["/a", "followed"] == 1
        hidden = rows.loc["/a"]
        assert (hidden["by"], hidden["where"], hidden["text"]) == ("tag", HOST + "/a", NOINDEX) and hidden["line"] > 0
        assert "link-to-gone" in rows.loc["/old", "checks"]
        found = audit.findings()
        assert len(found) == len(audit.verdict.findings) and set(found["check"]) >= {"link-to-gone"}
        gone = found[found["check"] == "link-to-gone"].iloc[0]
        assert (gone["url"], gone["kind"], gone["severity"]) == (f"{HOST}/old", "status", "fix")
        assert list(found["line"].isna()) == [not f.evidence[0].line for f in audit.verdict.findings]
        assert isinstance(audit.causes[0], Cause) and isinstance(audit.verdict, Verdict) and audit.complete
        assert audit.explain("/a").states == {"googlebot": "hidden", "*": "hidden"}
        assert audit.crawlers == ("googlebot", "*") and audit.path == Path(site.snapshot.path)
        assert {"audit", "frame", "history", "open_snapshot", "Audit", "Ledger"} <= set(dir(indrel))
        assert repr(audit).startswith("<Audit www.sarnfell.example, 2026-") and len(repr(audit)) < 120
        assert "<td>link-to-gone</td>" in audit._repr_html_() and "<b>www.sarnfell.example, " in audit._repr_html_()
        rules = audit.match("/a", HOST + "/old")
        assert set(rules["url"]) == {HOST + "/a", HOST + "/old"} and rules["allowed"].all() and len(rules) == 4
        (tmp_path / "t.csv").write_text(f"URL,Indexed\n{HOST}/a,yes\n")
        assert audit.reconcile(tmp_path / "t.csv").loc[0, ["url", "state"]].tolist() == [HOST + "/a", "hidden"]
        assert {t.labels[2] for t in audit.tickets()} >= {"link-to-gone"}
        (tmp_path / "r.txt").write_text("User-agent: *\nDisallow: /al\n")
        effect = audit.impact(tmp_path / "r.txt")
        assert indrel.frame(effect.changes)["url"].tolist() == [HOST + "/alone"] and effect.bars_wanted
        assert [(use.decides, use.wanted) for use in audit.check_robots(tmp_path / "r.txt").uses] == [(1, 1)]
        assert set(audit.matrix()["reads"]) == {"everything"}
        (tmp_path / "s.xml").write_text(sitemap("/a"))
        assert audit.check_sitemap(tmp_path / "s.xml").states == {"hidden": 1}
        assert b"/alone" in audit.draft_sitemap().files["sitemap.xml"] and not audit.draft_robots().difference
        assert audit.show_intent("/a").want == "any" and audit.check_intent() == []
        assert "crawlers = " in audit.draft_intent() and not audit.draft_headers().nginx
        (tmp_path / "a.log").write_text(
            '10.0.0.1 - - [01/Nov/2026:08:00:00 +0000] "GET /a HTTP/1.1" 200 9 "-" "Googlebot/2.1"\n'
        )
        assert audit.log(tmp_path / "a.log").crawlers == {"googlebot": 1}
        assert indrel.frame(indrel.history(folder=audit.path.parent).runs)["started"].notna().all()
        assert indrel.frame(audit.causes)["check"].tolist() == [cause.check for cause in audit.causes]
        with indrel.Ledger(tmp_path / "book.ledger") as book:
            assert book.waiting() == []
        shown = {"verdict": audit.verdict, "cause": audit.causes[0], "url": audit.explain("/a")}
        for one in shown.values():
            assert len(repr(one)) < 200 and repr(one).startswith("<") and "<table>" in one._repr_html_()  # type: ignore[attr-defined]
        assert "hidden for googlebot" in repr(shown["url"])
        audit.write(tmp_path / "x.md", tmp_path / "x.csv")
        assert {p.name for p in tmp_path.iterdir()} >= {"x.md", "x.csv"}
        with indrel.open_snapshot(audit.path, crawlers=["googlebot", "*"]) as same:
            assert audit.compare(same).states == []
            assert audit.against(same).common == 3 and audit.to_request(same) == []
    odd = 'a"; DROP'  # a token is data wherever it becomes a column's name
    with indrel.open_snapshot(site.snapshot.path, crawlers=[odd, "*"]) as audit:
        assert odd.lower() in audit.addresses().columns
    files = [f"--output={tmp_path / name}" for name in ("odd.csv", "odd.xlsx")]
    subprocess.run([PROGRAM, "list", site.snapshot.path, "--crawler", odd, *files], check=True)
    assert ',"a""; drop",' in (tmp_path / "odd.csv").read_text().splitlines()[0]


def test_audit_of_a_folder(tmp_path: Path) -> None:
    write_site(tmp_path / "b", {"index.html": html(body=a("/gone", "/a.html")), "a.html": html(NOINDEX)})
    (tmp_path / "want.toml").write_text('[[want]]\nmatch = "/a.html"\nwant = "show"\n')
    where = {"base": HOST + "/", "intent": tmp_path / "want.toml"}
    with indrel.audit(tmp_path / "b", snapshot=tmp_path / "s.indrel", **where) as audit:  # type: ignore[arg-type]
        assert audit.cut_short is None and set(audit.findings()["check"]) >= {"noindex-wanted", "link-to-gone"}
        assert audit.addresses()["stated"].sum() == 1
    with indrel.open_snapshot(tmp_path / "s.indrel") as again:  # the intent is kept with the snapshot
        assert "noindex-wanted" in set(again.findings()["check"])


def test_a_plain_script_may_audit_twice(tmp_path: Path) -> None:
    write_site(tmp_path / "b", {"index.html": html(body=a("/a.html")), "a.html": html(NOINDEX)})
    (tmp_path / "script.py").write_text(
        "import indrel\nfor n in '12':\n"
        "    with indrel.audit('b', base='https://www.sarnfell.example/', snapshot=n + '.indrel') as found:\n"
        "        print(len(found.addresses().query('status == 200')))\n"
    )  # no guard for processes that start afresh: none of them runs the script again
    done = subprocess.run([sys.executable, "script.py"], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert done.stdout == "2\n2\n" and not done.stderr, done.stderr


@pytest.mark.parametrize(
    ("source", "error"), [("no-such-place", InputError), ("ftp://x.example/", UsageError), (__file__, SnapshotError)]
)
def test_what_cannot_be_read(source: str, error: type[Exception]) -> None:
    with pytest.raises(error):
        indrel.audit(source)
    with pytest.raises(AttributeError):
        indrel.no_such_name  # noqa: B018


def test_the_example_runs(demo: Path) -> None:
    done = subprocess.run([sys.executable, EXAMPLE], cwd=demo, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    assert "199 addresses, complete: True" in done.stdout and "state -> hidden" in done.stdout
    assert (demo / "audit.xlsx").is_file() and (demo / "audit.svg").is_file()


def test_importing_it_is_cheap() -> None:
    code = "import sys, indrel; assert not {'pandas', 'duckdb', 'pycurl', 'matplotlib'} & set(sys.modules)"
    subprocess.run([sys.executable, "-c", code], check=True)


def test_a_question_loads_only_what_it_needs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write_site(tmp_path / "b", {"index.html": html(body=a("/a.html")), "a.html": html(NOINDEX)})

    def loaded(*arguments: str) -> set[str]:
        done = subprocess.run(
            [sys.executable, "-X", "importtime", "-m", "indrel", *arguments],
            cwd=tmp_path,
            capture_output=True,
            text=True,
        )
        assert done.returncode in (0, 1), done.stderr[-800:]
        return {line.rpartition("|")[2].strip() for line in done.stderr.splitlines() if line.startswith("import time")}

    audited = loaded("audit", "b", "--base", HOST + "/")
    assert "pyarrow" in audited
    assert audited & {"pandas.core", "matplotlib", "pyarrow.compute", "pycurl"} == set()
    asked = loaded("explain", "/a.html")
    assert "duckdb" in asked and not asked & {"pyarrow", "numpy", "selectolax", "jinja2", "indrel.checks.run"}
    monkeypatch.setattr("indrel.base.extras.find_spec", lambda name: None)
    with pytest.raises(UsageError, match=r"x\.png needs matplotlib, .* pip install 'indrel\[figures\]'"):
        check_endings([tmp_path / "x.png"])
    newest = max((tmp_path / "indrel-runs").iterdir())
    with indrel.open_snapshot(newest) as audit, pytest.raises(UsageError, match=r"needs pandas, .*indrel\[frames\]"):
        audit.findings()


def test_a_light_install() -> None:
    """What `pip install indrel` brings, beside Indrel."""
    needed: set[str] = set()
    todo = ["indrel"]
    while todo:
        for line in metadata.requires(todo.pop()) or ():
            name = re.match(r"[\w.-]+", line)
            marker = line.partition(";")[2]
            if name and name[0].lower() not in needed and "extra" not in marker and "platform" not in marker:
                needed.add(name[0].lower())
                todo += [name[0]] if "python_version" not in marker else []
    assert {"duckdb", "pycurl", "selectolax"} <= needed and len(needed) <= 30, sorted(needed)
