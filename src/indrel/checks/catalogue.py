"""The catalogue: every check registers itself here, with all that is said about it in one place.

A check is one generator over a `Site`. Its decorator holds id, class and severity; its docstring
holds the summary (first line) and the paragraphs `Why:`, `Fix:`, `Source:` and `Evidence:`.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import Flag, auto
from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from indrel.checks.advice import Advice
from indrel.checks.changes import Change
from indrel.core.model import CheckClass, Evidence, Severity, State
from indrel.decide.site import Site

PARTS = ("Why", "Fix", "Source", "Evidence")


@dataclass(frozen=True, slots=True)
class Hit:
    """One place where a check applies. `mask` are the crawlers, or `crawlers` names ones that are not audited; `implied` says that the
    want it depends on is only inferred.

    `pair` are the two URLs whose relation its cause is known by, such as a page and its canonical's target; `place` is what
    the cause is known by if the text of the first evidence does not tell (the template that prints an unusable value).
    `advice` is given if something else than the catalogue's fix is right here. `pages` are the pages that it affects.
    """

    url: str
    mask: int
    message: str
    evidence: tuple[Evidence, ...]
    also: tuple[str, ...] = ()
    severity: Severity | None = None
    implied: bool = False
    advice: Advice | str = ""
    pair: tuple[str, str] | None = None
    place: tuple[str, ...] = ()
    crawlers: tuple[str, ...] = ()
    pages: int = 1


CheckFunction = Callable[[Site], Iterator[Hit]]


class Need:
    """Facts that a check cannot do without."""

    LIVE = "responses of a server"
    ROBOTS = "robots.txt"
    COMPLETE = "a complete crawl"
    LINKS = "followed links"
    READ_BARRED = "blocked pages read"
    PAGES = "known URLs"
    AS_CRAWLERS = "requests as each crawler"
    RENDERED = "pages rendered in a browser"
    SITEMAPS = "sitemaps looked for"
    BARE = "requests without a login"
    PARTNERS = "partners that the intent file declares"
    USER_PARTS = "user-written parts that the intent file declared when pages were read"
    INTENT = "wants or hosts that the intent file states"


class Follows(Flag):
    """What a row of a check can be a mere consequence of, where that is reported already."""

    NOTHING = 0
    SHUT_HOST = auto()
    """Its host is blocked, down, or its home page is not open."""

    HIDDEN_HOST = auto()
    """Nearly all pages of its host have noindex from one source."""

    NOFOLLOW = auto()
    """The home page has a page-wide nofollow, or leads nowhere."""

    SOFT_404 = auto()
    """The page is reported as a soft 404."""

    NEEDED_VISIT = auto()
    """The page works only after a visit to the site."""

    SUBJECT = auto()
    """The state of its subject is reported by a more serious row."""

    TARGET = auto()
    """The state of its target is reported by a row as serious."""

    CANONICAL = auto()
    """The canonical of its page is reported by another row."""

    RULE = auto()
    """The rule or directive that keeps its subject out is reported by a more serious row."""


@dataclass(frozen=True, slots=True)
class Check:
    """One row of the catalogue."""

    id: str
    cls: CheckClass
    severity: Severity
    summary: str
    why: str
    mend: str
    rests_on: str
    evidence: str
    topic: str
    rests_on_want: bool
    needs: tuple[str, ...]
    feeds: tuple[str, ...]
    change: Change | None
    draft: str | None
    follows: Follows
    whole_host: bool
    reports: State | None
    run: CheckFunction


_CHECKS: dict[str, Check] = {}


def check(
    id: str,
    cls: CheckClass,
    severity: Severity,
    *,
    follows: Follows,
    whole_host: bool = False,
    reports: State | None = None,
    rests_on_want: bool = False,
    needs: tuple[str, ...] = (),
    feeds: tuple[str, ...] = (),
    change: Change | None = None,
    draft: str | None = None,
) -> Callable[[CheckFunction], CheckFunction]:
    """Register a check. Raises ValueError, with the place, for an id used twice or a part left out.

    `needs` are facts without which it is left out, and that is said; `feeds` are tables of the snapshot without a row,
    and traits (`TRAITS`, `ROW_TRAITS` in `decide.terms`) that nothing has, without which it can find nothing, so that it is not asked.
    `follows` says of what its rows can be mere consequences, which every check has to declare; `reports` is the state of its
    subject that a row says should be another, so that other rows can follow from it; `whole_host`: it concerns a whole
    host, or lets strangers in, and is reported first among findings of one severity.
    `change` says what becomes of the text that does it, where one follows from the other; `draft` is the
    `indrel draft` that proposes a fix.
    """

    def register(function: CheckFunction) -> CheckFunction:
        place = f"{function.__module__}.{function.__name__}"
        if id in _CHECKS:
            raise ValueError(f"{place}: the check {id} is registered twice")
        summary, parts = _read_docstring(inspect.getdoc(function) or "")
        absent = [p for p in PARTS if not parts.get(p)]
        if absent or not summary:
            raise ValueError(f"{place}: the docstring of {id} lacks {', '.join(absent) or 'a summary'}")
        _CHECKS[id] = Check(
            id, cls, severity, summary, parts["Why"], parts["Fix"], parts["Source"], parts["Evidence"],
            function.__module__.rpartition(".")[2], rests_on_want, needs, feeds, change, draft, follows,
            whole_host, reports, function,
        )  # fmt: skip
        return function

    return register


def _read_docstring(text: str) -> tuple[str, dict[str, str]]:
    summary, _, rest = text.partition("\n")
    parts: dict[str, str] = {}
    for paragraph in re.split(rf"\n(?=(?:{'|'.join(PARTS)}):)", rest.strip()):
        name, colon, body = paragraph.partition(":")
        if colon and name in PARTS:
            parts[name] = " ".join(body.split())
    return summary.strip(), parts


@cache
def checks() -> dict[str, Check]:
    """All checks by id, in the catalogue's order: topic by topic, as they stand in the code."""
    package = import_module("indrel.checks.topics")
    for module in sorted(m.name for m in iter_modules(package.__path__)):
        import_module(f"indrel.checks.topics.{module}")
    # anyone who imports a topic first registers it first: the order is the topics', whatever was imported
    return {one.id: one for one in sorted(_CHECKS.values(), key=lambda c: c.topic)}
