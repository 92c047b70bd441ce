"""robots.txt: reading, choosing, matching; held against RFC 9309 and a second reading of it."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from indrel.core.address import normalise_percent
from indrel.core.crawlers import crawler, resolve
from indrel.core.robots import Access, access_for, decide, match_many, parse
from indrel.core.robots.file import MAX_OCTETS
from reference_robots import allowed as reference

# RFC 9309 section 2.2.2: rule path, address path, whether they match
PATHS = [
    ("/foo/bar?baz=quz", "/foo/bar?baz=quz", True),
    ("/foo/bar?baz=https://foo.bar", "/foo/bar?baz=https%3A%2F%2Ffoo.bar", False),
    ("/foo/bar/ツ", "/foo/bar/%E3%83%84", True),
    ("/foo/bar/%E3%83%84", "/foo/bar/%E3%83%84", True),
    ("/foo/bar/%62%61%7A", "/foo/bar/baz", True),
    # section 2.2.3
    ("/path/file-with-a-%2A.html", "/path/file-with-a-*.html", True),
    ("/path/foo-%24", "/path/foo-$", True),
    ("/*.gif$", "/a/b.gif", True),
    ("/*.gif$", "/a/b.gif?x", False),
    ("/this/*/exactly", "/this/path/exactly", True),
    # the rest of standards
    ("/fish", "/fishheads/yummy.html", True),
    ("/fish", "/Fish.asp", False),
    ("/fish*", "/catfish", False),
    ("/fish/", "/fish", False),
    ("/*.php", "/folder/filename.php?parameters", True),
    ("/*.php", "/windows.PHP", False),
    ("/*.php$", "/filename.php/", False),
    ("/fish*.php", "/fishheads/catfish.php?parameters", True),
    ("*", "/anything", True),
    ("$", "/", False),
    ("/$", "/", True),
    ("/a$b", "/a$b", True),
    ("/a$b", "/a%24b", True),
    ("/a*$", "/abc", True),
    ("/a**b", "/a-b", True),
    ("/%zz", "/%zz", True),
    ("/%7Ejoe", "/~joe", True),
    ("/~joe", "/%7ejoe", True),
    ("foo", "/foo", False),
    ("/a%2fb", "/a%2Fb", True),
    ("/a/b", "/a%2Fb", False),
    ("/a b", "/a%20b", False),
]


@pytest.mark.parametrize(("rule", "path", "expected"), PATHS)
def test_rule_path(rule: str, path: str, expected: bool) -> None:
    file = parse(f"user-agent: *\ndisallow: {rule}\n".encode())
    rules = file.ruleset(("*",)).rules
    assert decide(rules, normalise_percent(path))[0] is not expected
    assert bool(match_many(rules, [normalise_percent(path)])[0] >= 0) is expected
    assert reference(["user-agent: *", f"disallow: {rule}"], "x", path) is not expected


# RFC 9309 section 5.1 and 5.2, and the grouping rules of section 2.2
RFC_FILE = """User-Agent: *
Disallow: *.gif$
Disallow: /example/
Allow: /publications/

User-Agent: foobot
Disallow:/
Allow:/example/page.html
Allow:/example/allowed.gif

User-Agent: barbot
User-Agent: bazbot
Disallow: /example/page.html

User-Agent: quxbot
"""
GROUPS = [
    (RFC_FILE, "anybot", "/example/page.html", False),
    (RFC_FILE, "anybot", "/publications/a", True),
    (RFC_FILE, "anybot", "/pictures/a.gif", False),
    (RFC_FILE, "FooBot", "/example/page.html", True),
    (RFC_FILE, "foobot", "/publications/", False),
    (RFC_FILE, "bazbot", "/example/page.html", False),
    (RFC_FILE, "barbot", "/pictures/a.gif", True),
    (RFC_FILE, "quxbot", "/example/page.html", True),
    (
        "user-agent: a\nallow: /example/page/\ndisallow: /example/page/disallowed.gif",
        "a",
        "/example/page/disallowed.gif",
        False,
    ),
    ("user-agent: a\ndisallow: /x\n\nuser-agent: b\ndisallow: /y\nuser-agent: A\ndisallow: /z", "a", "/z", False),
    ("user-agent: a\nsitemap: https://x.example/s\n\nuser-agent: b\ndisallow: /", "a", "/q", False),
    ("disallow: /\nuser-agent: *\ndisallow: /b", "a", "/a", True),
    ("user-agent: *\ndisallow: /\nuser-agent: a\ndisallow:", "a", "/a", True),
    ("user-agent: a/1.2 extra\ndisallow: /", "a", "/a", False),
    ("\ufeffuser-agent: *\rdisallow: /a # not /b\rallow: /a/b", "x", "/a/c", False),
    ("user-agent: *\ndisallow: /p\nallow: /p", "x", "/p", True),
    ("user-agent: *\ndisallow: /", "x", "/robots.txt", True),
    ("USER-AGENT : *\nDISALLOW : /a", "x", "/a", False),
]


@pytest.mark.parametrize(("text", "name", "path", "expected"), GROUPS)
def test_groups(text: str, name: str, path: str, expected: bool) -> None:
    rules = parse(text.encode()).ruleset(crawler(name).robots_tokens).rules
    assert decide(rules, path)[0] is expected
    assert reference(text.lstrip("\ufeff").replace("\r", "\n").split("\n"), name, path) is expected


@pytest.mark.parametrize(
    ("name", "group"),
    [
        ("googlebot-image", "googlebot"),
        ("applebot", "googlebot"),
        ("adsbot-google", None),
        ("otherbot", "*"),
        ("*", "*"),
    ],
)
def test_family_and_star(name: str, group: str | None) -> None:
    file = parse(b"user-agent: googlebot\ndisallow: /g\nuser-agent: *\ndisallow: /s")
    assert file.ruleset(crawler(name).robots_tokens).group == group


@pytest.mark.parametrize(
    ("status", "hops", "access"),
    [
        (200, 0, Access.RULES),
        (206, 5, Access.RULES),
        (200, 6, Access.ALL_ALLOWED),
        (404, 0, Access.ALL_ALLOWED),
        (403, 0, Access.ALL_ALLOWED),
        (301, 6, Access.ALL_ALLOWED),
        (429, 0, Access.ALL_BARRED),
        (503, 0, Access.ALL_BARRED),
        (None, 0, Access.ALL_BARRED),
    ],
)
def test_access(status: int | None, hops: int, access: Access) -> None:
    assert access_for(status, hops) is access


def test_lines_and_limit() -> None:
    file = parse(b"a: b\r\n\r\nuser-agent: *\ndisallow: /x # why\nsitemap: https://h.example/s.xml\n\xff\xfe: y")
    assert [(line.number, line.field) for line in file.lines][:3] == [(1, "a"), (3, "user-agent"), (4, "disallow")]
    assert file.groups[0].rules[0].text == "disallow: /x # why" and file.groups[0].rules[0].path == "/x"
    assert file.sitemaps[0].line == 5 and file.bad_utf8
    long = b"user-agent: *\ndisallow: /a\n" + b"#" * (MAX_OCTETS - 35) + b"\ndisallow: /cut-here\ndisallow: /beyond\n"
    cut = parse(long)
    assert [r.path for r in cut.groups[0].rules] == ["/a"] and cut.beyond == 2


@pytest.mark.parametrize(
    "data",
    [b"", b"\0" * 5000, b"user-agent: *\ndisallow: /" + b"a" * 5_000_000, b"user-agent: a\ndisallow: /\n" * 20_000],
    ids=["empty", "nul", "one-line", "many-groups"],
)
def test_hostile_files(data: bytes) -> None:
    file = parse(data)
    assert len(match_many(file.ruleset(("a", "*")).rules, ["/x", "/y?z"])) == 2


def test_hostile_wildcards_take_time_linear_in_the_address() -> None:
    rules = parse(b"user-agent: *\ndisallow: /" + b"*a" * 40 + b"*b").ruleset(("*",)).rules
    path = "/" + "a" * 200_000
    assert decide(rules, path) == (True, None)
    assert match_many(rules, [path, path + "b"]).tolist() == [-1, 0]


_piece = st.sampled_from(
    ["a", "b", "/", "?", "=", ".", "*", "$", "%41", "%2a", "%2A", "%24", "%2f", "%", "é", "~", "ab", "%e9", "A"]
)
_path = st.lists(_piece, max_size=7).map(lambda p: "/" + "".join(p))
_rule = st.tuples(
    st.sampled_from(["allow", "disallow", "Disallow ", "ALLOW"]), st.one_of(_path, _path.map(lambda p: p[1:]))
)
_line = st.one_of(
    _rule.map(lambda r: f"{r[0]}: {r[1]}"),
    st.sampled_from(
        ["user-agent: *", "User-agent: mybot", "user-agent: other/2", "", "# c", "sitemap: x", "user-agent:", "odd"]
    ),
)


@settings(max_examples=150)
@given(
    st.lists(_line, max_size=14), st.lists(_path, min_size=1, max_size=8), st.sampled_from(["mybot", "other", "third"])
)
def test_agrees_with_the_second_reading(lines: list[str], paths: list[str], name: str) -> None:
    rules = parse("\n".join(lines).encode()).ruleset(crawler(name).robots_tokens).rules
    bulk = match_many(rules, [normalise_percent(p) for p in paths])
    for path, index in zip(paths, bulk.tolist(), strict=True):
        expected = reference(lines, name, path)
        assert decide(rules, normalise_percent(path))[0] is expected
        assert (index < 0 or rules[index].allow) is expected


def test_crawlers_resolve_by_purpose() -> None:
    assert {c.token for c in resolve(["ads"])} >= {"adsbot-google"}
    assert {c.purpose for c in resolve(["ai"])} == {"ai-training", "ai-answers", "ai-user"}
    assert resolve(["Newbot/1"])[0].robots_tokens == ("newbot", "*")
