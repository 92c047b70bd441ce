"""How two URLs relate, what many pairs have in common, and the causes that follow."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from indrel.checks.catalogue import Hit
from indrel.checks.causes import by_cause, mark_of
from indrel.core.model import CheckClass, Evidence, Finding, Severity
from indrel.core.relation import FIRST_PAGE, HOME, PARENT, in_words, relation, target_shape

HOST = "https://www.sarnfell.example"


@pytest.mark.parametrize(
    ("subject", "target", "said"),
    [
        ("/x", "/x", "same"), ("/Services/", "/services/", "letter-case"), ("/X", "/x/", "letter-case +/"),
        ("/x", "/x/", "slash +/"), ("/x/", "/x", "slash -/"),
        ("/x.html", "/x", "file-form .html > -"), ("/x/index.html", "/x/", "file-form index.html > /"),
        ("/index.html", "/", "file-form index.html > /"), ("/x.php", "/x.html", "file-form .php > .html"),
        ("/x?b=1&a=2", "/x", "parameters -a -b"), ("/x?a=1&b=2", "/x?b=2&a=1", "parameters order"),
        ("/x", "/x?a=1", "parameters +a"), ("/x?a=1", "/x?a=2", "parameters =a"),
        ("/x/print/", "/x/", "part -print"), ("/amp/x", "/x", "part -amp"), ("/x", "/en/x", "part +en"),
        ("/x-print", "/x", "part --print"), ("/x.en.html", "/x.html", "part -.en"),
        ("/7.0/a/b", "/8.0/a/b", "part 7.0 > 8.0"), ("/ja/a", "/en/a", "part ja > en"),
        ("/a/3f2a9c41/b", "/a/b", "part -#"), ("/a/12/b", "/a/7/b", "part # > #"),
        ("/x", "/", "home"), ("/a/b", "/a/", "parent"), ("/a/page/3/", "/a/", "first-page page"),
        ("/a?seite=2", "/a", "first-page seite"), ("/a?page=2", "/a?page=1", "first-page page"),
        ("/a?page=1", "/a", "parameters -page"), ("/a", "/b", "unrelated"), ("/w/X?action=history", "/w/X", "parameters -action"),
        ("http://www.sarnfell.example/x", "/x", "scheme http > https"),
        ("https://sarnfell.example/x", "/x", "www +www"), (HOST + ":8443/x", "/x", "port 8443 > -"),
        ("http://sarnfell.example/x", "/x", "host-variant http > https +www"),
        ("http://www.sarnfell.example/x", "/x/", "scheme slash +/"),
        ("/x", "https://agency.example/x", "other-host agency.example"),
        ("/x", "https://agency.example/", "other-host agency.example home"),
        ("/x", "https://agency.example/y", "other-host agency.example unrelated"),
    ],
)  # fmt: skip
def test_relations(subject: str, target: str, said: str) -> None:
    one, two = (u if "://" in u else HOST + u for u in (subject, target))
    assert str(relation(one, two)) == said


WORD = st.text("abcxyz-", min_size=1, max_size=6).filter(lambda w: w.strip("-"))
PATH = st.lists(WORD, max_size=3).map("/".join).map(lambda p: "/" + p)
QUERY = st.sampled_from(["", "?a=1", "?b=2&a=1", "?page=2"])


@given(PATH, PATH, QUERY, QUERY, WORD)
def test_a_relation_is_stable(one: str, two: str, query: str, query2: str, prefix: str) -> None:
    """What both URLs have in common does not matter: a folder, a host, a parameter."""
    found = relation(HOST + one + query, HOST + two + query2)
    if found.kind in (HOME, PARENT, FIRST_PAGE):
        return
    ways = [
        (f"https://h.example{one}{query}", f"https://h.example{two}{query2}"),
        (f"{HOST}/{prefix}{one}{query}", f"{HOST}/{prefix}{two}{query2}"),
    ]
    both = "&z=9"
    ways.append(tuple(f"{HOST}{p}{q + both if q else '?' + both[1:]}" for p, q in ((one, query), (two, query2))))  # type: ignore[arg-type]
    for subject, target in ways:
        again = relation(subject, target)
        assert again.kind in (PARENT, FIRST_PAGE) or again == found, (subject, target)
    assert relation(HOST + one, HOST + one).kind == "same" and isinstance(in_words(found), str)


def mark(number: int, url: str, target: str, check: str = "canonical-to-gone", kind: str = "canonical") -> object:
    text = f'<link rel="canonical" href="{target}">'
    evidence = (Evidence(kind, url, 6, text),)
    found = Finding(check, CheckClass.CONFLICT, Severity.FIX, url, ("*",), "m", evidence, (target,), "/*")
    return mark_of(found, number, Hit(url, 1, "m", evidence, (target,), pair=(url, target)))


@pytest.mark.parametrize(
    ("pairs", "counts"),
    [
        ([("/a", "http://old.example/a"), ("/b/c", "http://old.example/b/c"), ("/d", "https://agency.example/d")], [2, 1]),
        ([(f"/s{n}/", f"/S{n}/") for n in range(4)], [4]),
        ([(f"/7.0/p{n}", f"/8.0/p{n}") for n in "abc"] + [(f"/ja/p{n}", f"/en/p{n}") for n in "ab"], [3, 2]),
        ([("/a", "/x"), ("/b", "/x"), ("/c/d", "/x")], [3]),  # one constant target
        ([("/a", "/x"), ("/b", "/x"), ("/c", "/y"), ("/d", "/y")], [2, 2]),
        ([(f"/p/{n}", f"/shoes/{n}x{n}") for n in "abcd"], [4]),  # an old pattern to a new one
        ([(f"/in-{n}/x", "/x") for n in "abcd"] + [("/amp/y", "/y"), ("/amp/z", "/z")], [4, 2]),  # each page's own part
        ([("/a", "/"), ("/b/c", "/"), ("/d", "/d/")], [2, 1]),
    ],
)  # fmt: skip
def test_one_edit_is_one_cause(pairs: list[tuple[str, str]], counts: list[int]) -> None:
    """Grouped by relation and place, in whatever order they come."""
    urls = [tuple(u if "://" in u else HOST + u for u in pair) for pair in pairs]
    for order in (urls, urls[::-1]):
        groups = by_cause([mark(n, *pair) for n, pair in enumerate(order)])  # type: ignore[misc]
        assert sorted(map(len, groups), reverse=True) == counts
        ids = Counter(m.cause for g in groups for m in g)
        assert len(ids) == len(counts)
    assert target_shape("https://a.example/docs/3/x?b=1&a=2") == "https://a.example/docs?a&b"
