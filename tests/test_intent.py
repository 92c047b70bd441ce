"""The intent file: read, refused with line and word, applied, shown, checked and drafted."""

from __future__ import annotations

import json
import re
from datetime import date
from pathlib import Path

import duckdb
import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cases import BASE, HOST, NOINDEX, a, canonical, html, robots, sitemap
from conftest import AuditSite, lines_of, served
from indrel.ask.intent import check, draft
from indrel.base.errors import InputError
from indrel.checks import checks
from indrel.core.intent import Match, parse_intent
from indrel.decide import build, predicates
from indrel.demo.server import DemoServer
from indrel.snapshot import Snapshot
from test_program import Run, write_site

WANT = '[[want]]\nmatch = "/a*"\nwant = "{}"\n'


@pytest.mark.parametrize(
    ("text", "line", "says"),
    [
        ('wants = 1\n', 1, "did you mean `want`?"),
        ('\n[[want]]\nmatch = "/a"\nwant = "hid"\n', 4, "did you mean `hide`?"),
        ('[[want]]\nmatch = "/a"\nwant = "any"\n\n[[want]]\nkind = "tag-archiv"\nwant = "hide"\n', 6, "did you mean `tag-archive`?"),
        ('[[want]]\nmatch = "/a"\nwant = "shwo"\n', 3, "did you mean `show`?"),
        ('[[want]]\nmach = "/a"\nwant = "hide"\n', 2, "did you mean `match`?"),
        ('[[want]]\nwant = "hide"\n', 1, "needs `match` or `kind`"),
        ('[[want]]\nmatch = "/a"\n', 1, "needs `want`"),
        ('[[want]]\nmatch = "a*"\nwant = "hide"\n', 2, "begins with `/`"),
        ('[[want]]\nmatch = 3\nwant = "hide"\n', 2, "is a text"),
        ('[[host]]\nclosed = true\n', 1, "needs a name"),
        ('[[host]]\nname = "a b"\n', 2, "is not a host name"),
        ('[links]\npartner = ["x.example"]\n', 2, "did you mean `partners`?"),
        ('[links]\nuser_written = ["..x"]\n', 2, "is not a CSS selector"),
        ('[[accept]]\ncheck = "listed-hiden"\n', 2, "did you mean `listed-hidden`?"),
        ('[[accept]]\nmatch = "/a"\n', 1, "needs the id of a check"),
        ('[[accept]]\ncheck = "listed-gone"\nuntil = "soon"\n', 3, "is a day"),
        ('hosts = "x"\n', 1, "is a list of texts"),
        ('want = "x"\n', 1, "is a list of tables"),
    ],
)  # fmt: skip
def test_errors_name_line_and_word(text: str, line: int, says: str) -> None:
    with pytest.raises(InputError) as caught:
        parse_intent(text, "my.toml", checks())
    assert str(caught.value).startswith(f"my.toml:{line}: ") and says in str(caught.value), caught.value


def test_broken_files_are_refused(indrel: Run, tmp_path: Path) -> None:
    (tmp_path / "x.toml").write_bytes(b"\xff\xfe")
    (tmp_path / "y.toml").write_text("[[want\n")
    folder = write_site(tmp_path / "b", {"index.html": html()})
    for name, says in (("x.toml", "not UTF-8"), ("y.toml", "not TOML"), ("z.toml", "cannot be read")):
        done = indrel("audit", folder, "--intent", name, code=2)
        assert done.stderr.startswith(f"indrel: {name}") and says in done.stderr and done.stderr.count("\n") == 1


_TEXT = st.text(st.sampled_from("/ab*%_\\?.'"), max_size=8)


@settings(max_examples=80)
@given(_TEXT, st.lists(_TEXT, min_size=1, max_size=6))
def test_patterns_mean_the_same_in_queries(pattern: str, paths: list[str]) -> None:
    match = Match("/" + pattern.replace("//", "/"))
    con = duckdb.connect()
    for path in paths:
        url = f"{HOST}/{path}"
        told = con.execute(f"SELECT {match.sql()} FROM (SELECT ? AS origin, ? AS path)", [HOST, "/" + path]).fetchall()
        assert told[0][0] == match.holds(url), (match.path, path)


@pytest.mark.parametrize(
    ("pattern", "url", "holds"),
    [
        ("/search*", f"{HOST}/search?q=a", True),
        ("/search", f"{HOST}/search?q=a", False),
        ("/*/x$", f"{HOST}/a/x", False),
        ("*.pdf", f"{HOST}/d/x.pdf", True),
        ("/hütten/*", f"{HOST}/h%C3%BCtten/a", True),
        ("//staging.sarnfell.example/*", "https://staging.sarnfell.example/a", True),
        ("//staging.sarnfell.example/*", f"{HOST}/a", False),
        ("https://staging.sarnfell.example", "http://staging.sarnfell.example/", True),
        ("/a", "https://staging.sarnfell.example/a", False),
        ("//*.Hütte.example/a", "https://www.xn--htte-0ra.example/a", True),
    ],
)
def test_matching(pattern: str, url: str, holds: bool) -> None:
    """A pattern without a host holds on every host that is not declared closed."""
    assert Match(pattern).holds(url, frozenset({"staging.sarnfell.example"})) is holds


@pytest.mark.parametrize("at_once", [500, 1])
def test_the_last_entry_decides_and_stated_wants_weigh_more(
    at_once: int, audit_site: AuditSite, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where there are more entries than are put into one question."""
    for module in (build, predicates):
        monkeypatch.setattr(module, "MOST_AT_ONCE", at_once)
    pages = {**BASE, "/": html(canonical("/"), a("/a", "/a/x")), "/a": html(NOINDEX), "/a/x": html(NOINDEX)}
    pages["/sitemap.xml"] = sitemap("/", "/a")
    intent = WANT.format("show") + '[[want]]\nmatch = "/a/x"\nwant = "any"\n'
    site, verdict = audit_site(pages, intent=intent)
    assert dict(site.rows("SELECT path, want FROM fact WHERE known")) == {"/": "show", "/a": "show", "/a/x": "any"}
    found = {(f.check, f.url, f.severity.word) for f in verdict.findings if "noindex" in f.check or "listed" in f.check}
    assert found == {("noindex-wanted", f"{HOST}/a", "fix")}  # the page's row, not listed-hidden
    evidence = next(f for f in verdict.findings if f.check == "noindex-wanted").evidence[-1]
    assert (evidence.kind, evidence.line, evidence.text) == ("intent", 2, 'match = "/a*", want = "show"')
    hidden = {f.check for f in audit_site(pages, intent=WANT.format("hide"))[1].findings}
    assert "listed-unwanted" in hidden and "listed-hidden" not in hidden and "noindex-wanted" not in hidden


def test_accepted_findings_do_not_count(indrel: Run, tmp_path: Path) -> None:
    files = {"index.html": html(canonical("/"), a("/gone")), "robots.txt": robots(), "sitemap.xml": sitemap("/")}
    folder = write_site(tmp_path / "b", files)
    accept = '[[accept]]\ncheck = "link-to-gone"\nmatch = "/g*"\nbecause = "later"\nuntil = {}\n'
    (tmp_path / "indrel.toml").write_text(accept.format("2120-01-02"))
    done = indrel("audit", folder, "--json", "--fail-on", "fix", code=0)
    doc = json.loads(done.stdout)
    assert doc["counts"]["findings"]["fix"] == 0
    accepted = [f for f in doc["findings"] if "accepted" in f]
    assert [(f["check"], f["accepted"]) for f in accepted] == [
        ("link-to-gone", {"because": "later", "until": "2120-01-02"})
    ]
    (tmp_path / "indrel.toml").write_text(accept.format("2020-01-02"))
    assert json.loads(indrel("audit", folder, "--json", code=1).stdout)["counts"]["findings"]["fix"] == 1
    one = parse_intent(accept.format("2026-11-23"), "x").accepted[0]
    assert one.holds("link-to-gone", f"{HOST}/g", date(2026, 11, 23)) and not one.holds(
        "link-to-gone", f"{HOST}/g", date(2026, 11, 24)
    )


def test_entries_that_do_nothing(audit_site: AuditSite) -> None:
    intent = (
        WANT.format("hide") + WANT.format("show") + '[[want]]\nmatch = "/a/b*"\nwant = "hide"\n'
        '[[want]]\nmatch = "/a*"\nkind = "other"\nwant = "any"\n[[want]]\nkind = "cart"\nwant = "hide"\n'
        '[[accept]]\ncheck = "listed-gone"\n[[host]]\nname = "nowhere.example"\n'
    )
    site, verdict = audit_site({**BASE, "/": html(body=a("/a", "/a/b"))}, intent=intent)
    problems = {i.line: i.problem for i in check(site, verdict.findings)}
    assert {n: p.split()[0] for n, p in problems.items()} == {
        2: "contradicts",
        5: "is",
        8: "is",
        15: "matches",
        17: "accepts",
    }
    assert problems[8] == "is always overruled, by line 11"


def test_draft_states_what_is_and_adds_nothing_to_fix(audit_site: AuditSite, indrel: Run, tmp_path: Path) -> None:
    links = [f"/huts/{n}/" for n in range(4)] + [f"/tag/{n}/" for n in range(3)] + ["/mixed/a", "/mixed/b", "/login"]
    pages = {**BASE, "/": html(canonical("/"), a(*links)), "/sitemap.xml": sitemap("/", *links[:4])}
    pages |= {p: html(canonical(p), title=p) for p in links[:4]} | {p: html(NOINDEX, title=p) for p in links[4:7]}
    pages |= {"/mixed/a": html(canonical("/mixed/a")), "/mixed/b": html(NOINDEX), "/login": html(NOINDEX)}
    site, before = audit_site(pages)
    text = draft(site)
    intent = parse_intent(text, "d")
    wants = {e.text: e.want for e in intent.wants}
    assert (
        wants['match = "/huts/*", want = "show"'] == "show" and wants['kind = "tag-archive", want = "hide"'] == "hide"
    )
    assert '# match = "/mixed/*"' in text and "states differ" in text and len(text.splitlines()) < 100
    (tmp_path / "d.toml").write_text(text)
    again = json.loads(indrel("audit", site.snapshot.path, "--json", "--intent", "d.toml").stdout)
    grave = [f for f in again["findings"] if f["severity"] in ("stop", "fix")]
    assert len(grave) == sum(1 for f in before.findings if f.severity.word in ("stop", "fix")) == 0
    shown = lines_of(
        indrel(
            "intent", "show", "/huts/1/", "/nowhere", "--json", "--from", site.snapshot.path, "--intent", "d.toml"
        ).stdout
    )
    assert (shown[0]["want"], shown[0]["stated"], shown[1]["stated"]) == ("show", True, False)
    assert (
        indrel("intent", "check", site.snapshot.path, "--intent", "d.toml", code=0)
        .stdout.partition(": ")[2]
        .startswith("every entry has an effect in d.toml")
    )
    assert indrel("intent", "draft", site.snapshot.path, "-o", "d.toml", code=2).stderr.startswith(
        "indrel: d.toml exists"
    )


@pytest.mark.parametrize("want", ["show", "hide", "any"])
def test_long_pages_that_fold_are_judged_under_any_intent(want: str, audit_site: AuditSite) -> None:
    """The database's 2.0 could not plan one question where statistics say that every text is long."""
    text = " ".join(f"word{n}" for n in range(80))
    posts = [f"/{2024 + n % 3}/hut-{n}/" for n in range(20)]
    links = "".join(f"<a href={p}>h</a><a href={p}?reply=1>r</a><a href=/p{n}/>p</a>" for n, p in enumerate(posts))
    pages = {"/": f"<p>{text}{links}"} | {f"/p{n}/": f"<p>{text} {n}" for n in range(20)}
    for post in posts:
        told = f"<link rel=canonical href={post}><p>{text} hut {post}"
        pages |= {post: told, f"{post}?reply=1": f"{told} reply"}
    site, verdict = audit_site(pages, intent=f'[[want]]\nmatch = "/2025/*"\nwant = "{want}"\nbecause = "x"\n')
    assert not verdict.crashed
    assert site.state_counts()["*"] == {"open": 41, "folded": 20}
    drafted = parse_intent(draft(site), "d").wants
    years, variants = 'match = "/202*/*", want = "show"', 'kind = "parameter-variant", want = "hide"'
    assert [e.text for e in drafted] == [years, variants] and drafted[1].because == "none of it is open now"


def test_a_draft_leaves_open_whatever_would_add_to_fix(audit_site: AuditSite) -> None:
    """Several entries at once, each with the number of addresses that it would make need mending."""
    paths = [f"/author/{n}/" for n in range(3)] + [f"/tag/{n}/" for n in range(4)]
    pages = {**BASE, "/": html(canonical("/"), a(*paths)), "/sitemap.xml": sitemap("/", *paths)}
    text = draft(audit_site(pages | {p: html(NOINDEX, title=p) for p in paths})[0])
    assert re.findall(r"^# \[\[want\]\].*mean.*: (\d) URLs would .*\n# kind = \"(.*)\"$", text, re.MULTILINE) == [
        ("3", "author-archive"), ("4", "tag-archive"),
    ]  # fmt: skip


def test_intent_is_kept_with_the_snapshot(indrel: Run, tmp_path: Path) -> None:
    folder = write_site(
        tmp_path / "b", {"index.html": html(canonical("/"), a("/a.html")), "a.html": html(canonical("/a.html"))}
    )
    (tmp_path / "w.toml").write_text('crawlers = ["bingbot"]\n' + WANT.format("hide"))
    indrel("audit", folder, "--intent", "w.toml", "--snapshot", "s.indrel")
    rows = {r["url"]: r for r in lines_of(indrel("list", "s.indrel", "--json").stdout)}
    row = rows[f"{HOST}/a.html"]
    assert row["want"] == {"value": "hide", "stated": True} and list(row["states"]) == ["bingbot"]
    told = json.loads(indrel("explain", "/a.html", "--from", "s.indrel", "--json").stdout)
    assert told["want"]["rule"] == 'match = "/a*", want = "hide"' and told["want"]["because"] == "w.toml:3"
    assert told["steps"]["bingbot"][-1]["step"] == "change"


def test_the_site_of_a_folder_is_audited_by_its_file(indrel: Run, tmp_path: Path) -> None:
    """`[audit]` holds source and options; what it says of connections is shown and not used; its outputs stay below it."""
    write_site(tmp_path / "site/public", {"index.html": html(body=a("/a.html")), "a.html": html(NOINDEX)})
    plan = f'[audit]\nsource = "public"\nbase = "{HOST}/"\noutput = ["report.md"]\nconnect = ["www.sarnfell.example=127.0.0.1:9"]\n'
    wants = '[[want]]\nmatch = "/a.html"\nwant = "show"\n'
    (tmp_path / "indrel.toml").write_text(
        plan.replace("public", "site/public").replace("report", "site/report") + wants
    )
    done = indrel("audit", "--save", "own.indrel", "--json", code=1)
    told = json.loads(done.stdout)
    assert told["source"]["location"].endswith("site/public") and told["verdict"]["lost"] == 1
    assert (
        tmp_path / "site/report.md"
    ).is_file() and "names --connect www.sarnfell.example=127.0.0.1:9: it is not used" in done.stderr
    assert "from own.indrel" in indrel("list", code=0).stderr, "a snapshot in the working folder is found"
    (tmp_path / "indrel.toml").rename(tmp_path / "site/indrel.toml")
    done = indrel("audit", "site/public", "--base", HOST + "/", "--json", code=1)
    assert json.loads(done.stdout)["verdict"]["lost"] == 1 and "site/indrel.toml" in done.stderr, "next to the folder"
    assert "name a SOURCE" in indrel("audit", code=2).stderr
    for line, fault in (('output = ["../x.md"]', "`../x.md` is not below the folder"), ('rate = "fast"', "`rate` is a number"),
                        ("sourc = 1", "did you mean `source`?"), ('render = "much"', "no value of render `much`")):  # fmt: skip
        (tmp_path / "indrel.toml").write_text(f"[audit]\n{line}\n")
        assert (
            f"indrel.toml:2: {'there is ' if 'mean' in fault or 'value' in fault else ''}"
            in indrel("audit", code=2).stderr
        )
        assert fault in indrel("audit", code=2).stderr


def test_a_recheck_keeps_the_pace_and_shows_where_the_audit_connected(indrel: Run, tmp_path: Path) -> None:
    """A snapshot may come from a stranger: connections and headers are shown, and used only if they are given again."""
    with DemoServer(site=served({**BASE, "/": html(body=a("/gone"))})) as server:
        at = [w for h in ("www.", "") for w in ("--connect", f"{h}sarnfell.example=http://127.0.0.1:{server.port}")]
        indrel("audit", HOST, *at, "--rate", "0", "--header", "X-Key: secret", "--save", "a.indrel", code=1)
        asked = Snapshot(tmp_path / "a.indrel").meta["asked"]
        assert asked["rate"] == 0 and asked["headers"] == ["X-Key"] and "secret" not in str(asked)
        done = indrel("recheck", "a.indrel", "--timeout", "1", code=3)
        assert f"made with --connect www.sarnfell.example=http://127.0.0.1:{server.port}" in done.stderr
        assert "--header 'X-Key: ...': give that again" in done.stderr
        indrel("recheck", "a.indrel", *at, "--header", "X-Key: secret", code=1)


def test_variants_that_match_a_pattern_count_everywhere_or_nowhere(indrel: Run, tmp_path: Path) -> None:
    """In the first line, the findings, the lists and the workbook: as wanted pages, unless they give way to one."""
    names = [f"/huts/{n}" for n in range(6)]
    texts = {name: f"<p>Text of the hut {name} {'beds ' * n}" for n, name in enumerate(names)}
    links = [f"/huts/{n}?{q}" for n, q in enumerate(("view=map", "sort=asc", "lang=x", "print=1", "gone=1"))]
    site = served({
        "/": html(canonical("/"), a(*names, *links)), "/robots.txt": robots("Disallow: /*sort="), "/sitemap.xml": sitemap("/"),
        **{name: html(canonical(name), text, title=name) for name, text in texts.items()},
        links[0]: html(NOINDEX, "<p>Map"), links[2]: html(canonical(names[2]), texts[names[2]]),
        links[3]: html(canonical(names[3]) + NOINDEX, texts[names[3]] + "print"),
    })  # fmt: skip
    with DemoServer(site=site) as server:
        connect = ["--connect", f"{HOST[8:]}=http://127.0.0.1:{server.port}", "--rate", 0, "--snapshot", "s.indrel"]
        for rest, lost, wanted, shown in (
            ("", {links[0], links[1], links[4]}, 10, "12 URLs, 10 of them wanted pages"),
            ('[[want]]\nmatch = "/huts/*?*"\nwant = "any"\n', set(), 7, "7 URLs; "),
        ):
            (tmp_path / "indrel.toml").write_text('[[want]]\nmatch = "/huts/*"\nwant = "show"\n' + rest)
            told = json.loads(indrel("audit", HOST + "/", *connect, "--json", "-o", "x.xlsx", code=None).stdout)
            assert (told["verdict"]["lost"], told["verdict"]["wanted"]) == (len(lost), wanted)
            listed = [
                json.loads(line)["url"] for line in indrel("list", "s.indrel", "--lost", "--json").stdout.splitlines()
            ]
            assert {url.removeprefix(HOST) for url in listed} == lost
            of_wants = {f["url"] for f in told["findings"] if f["check"] in ("noindex-wanted", "barred-wanted")}
            assert of_wants == {HOST + url for url in lost if "gone" not in url}
            assert shown in " ".join(indrel("list", "s.indrel", "--want", "show").stdout.split())
            sheet = openpyxl.load_workbook(tmp_path / "x.xlsx", read_only=True).worksheets[0]
            said = " ".join(str(cell) for row in sheet.iter_rows(values_only=True) for cell in row if cell is not None)
            assert told["verdict"]["sentence"].rstrip(".") in said
