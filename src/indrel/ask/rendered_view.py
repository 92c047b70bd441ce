"""One page as is served and as a rendering crawler sees it, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from indrel.checks.evidence import rules
from indrel.core.answers import status_text
from indrel.core.model import Evidence
from indrel.core.page.facts import LinkFlag
from indrel.decide.site import Site

MOST = 20
"""Links and requests of one sort that are shown."""


@dataclass(frozen=True, slots=True)
class Side:
    """What one of the two says; `robots` and `canonical` as written, empty where nothing is."""

    status: int | None
    robots: tuple[str, ...]
    canonical: tuple[str, ...]
    title: str | None
    words: int | None
    links: int

    def as_json(self) -> dict[str, object]:
        return {
            "status": self.status, "robots": list(self.robots), "canonical": list(self.canonical), "title": self.title,
            "words": self.words, "links": self.links,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Request:
    """What the page asked for in vain: `result` refused (`by` has the rules), failed, unknown, withheld or capped."""

    url: str
    kind: str
    result: str
    status: int | None
    how: str
    by: tuple[Evidence, ...] = ()

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url, "kind": self.kind, "result": self.result, "status": self.status, "how": self.how,
            "by": [e.as_json() for e in self.by],
        }  # fmt: skip


@dataclass(frozen=True)
class View:
    """A page looked at for some crawlers. `outcome` is ok, empty, error or none (`why` says then what kept it)."""

    crawlers: tuple[str, ...]
    outcome: str
    why: str | None
    served: Side
    rendered: Side
    excerpt: str | None
    leads_to: str | None
    after_visit: str | None
    only_served: tuple[str, ...] = ()
    only_rendered: tuple[str, ...] = ()
    only_later: tuple[str, ...] = ()
    requests: tuple[Request, ...] = ()
    picture: bytes | None = field(default=None, repr=False)

    def as_json(self) -> dict[str, object]:
        return {
            "crawlers": list(self.crawlers), "outcome": self.outcome, "why": self.why, "served": self.served.as_json(),
            "rendered": self.rendered.as_json(), "excerpt": self.excerpt, "leads_to": self.leads_to,
            "after_visit": self.after_visit, "only_served": list(self.only_served), "only_rendered": list(self.only_rendered),
            "only_after_scroll_or_click": list(self.only_later), "requests": [r.as_json() for r in self.requests],
        }  # fmt: skip


def views(site: Site, number: int) -> list[View]:
    """How an address was seen, once a set of crawlers that robots.txt lets have the same of it; none if it was not."""
    if not site.holds("render"):
        return []
    status, title, words, links = site.rows(
        f"""SELECT n.status, p.title, p.own_words,
            (SELECT count(DISTINCT target) FROM link WHERE source = n.address AND flags & {LinkFlag.RENDERED} = 0)
        FROM answer n LEFT JOIN page p ON p.address = n.address WHERE n.address = ?""",
        [number],
    )[0]
    served = Side(
        status, _texts(site, "SELECT text FROM directive WHERE address = ? AND void IS NULL ORDER BY origin, line", number),
        _texts(site, "SELECT text FROM canonical WHERE address = ? ORDER BY origin, line", number), title, words, links,
    )  # fmt: skip
    found = []
    for mask, outcome, why, title, words, links, excerpt, leads, visit, picture in site.rows(
        """SELECT r.mask, r.outcome, r.why, r.title, r.own_words, coalesce(r.links, 0), r.excerpt, t.origin || t.path, r.visit, r.picture
        FROM render r LEFT JOIN address t ON t.id = r.leads_to WHERE r.address = ? ORDER BY bit_count(r.mask) DESC, r.mask""",
        [number],
    ):
        lines = [_texts(site, f"SELECT text FROM {t} WHERE address = ? AND mask = {mask} ORDER BY text", number)
                 for t in ("render_directive", "render_canonical")]  # fmt: skip
        found.append(
            View(
                _names(site, mask),
                outcome,
                why,
                served,
                Side(status, lines[0], lines[1], title, words, links),
                excerpt,
                leads,
                visit,
                _links(site, number, "render_link", "how = 'lost'"),
                _links(site, number, "link", f"flags & {LinkFlag.RENDERED} > 0"),
                _links(site, number, "render_link", "how <> 'lost'"),
                _requests(site, number, mask),
                picture,
            )
        )  # fmt: skip
    return found


def _names(site: Site, mask: int) -> tuple[str, ...]:
    """The crawlers that a page was looked at for; they may be others than those asked about now."""
    kept: Sequence[str] = site.meta.get("crawlers") or ()
    return tuple(token for i, token in enumerate(kept) if mask >> i & 1)


def _texts(site: Site, sql: str, number: int) -> tuple[str, ...]:
    return tuple(text for (text,) in site.rows(sql, [number]))


def _links(site: Site, number: int, table: str, condition: str) -> tuple[str, ...]:
    rows = site.rows(
        f"""SELECT DISTINCT a.origin || a.path FROM {table} l JOIN address a ON a.id = l.target
        WHERE l.source = ? AND {condition} ORDER BY 1 LIMIT {MOST}""",
        [number],
    )
    return tuple(url for (url,) in rows)


def _requests(site: Site, number: int, mask: int) -> tuple[Request, ...]:
    rows: list[Any] = site.rows(
        f"""SELECT a.origin || a.path AS url, q.kind, q.result, q.status, q.how FROM render_request q JOIN address a ON a.id = q.target
        WHERE q.source = ? AND q.mask = {mask} ORDER BY q.result <> 'refused', q.result, url LIMIT {MOST}""",
        [number],
    )
    return tuple(
        Request(url, kind, result, status, how, rules(site, url, site.all_mask) if result == "refused" else ())
        for url, kind, result, status, how in rows
    )


def words_for(request: Request) -> str:
    """What became of a request, in words."""
    if request.result == "refused":
        return (
            "barred"
            if not request.by
            else f"blocked by {request.by[0].where}:{request.by[0].line}  {request.by[0].text}"
        )
    if request.result == "unknown":
        return "no response: what crawlers get is unknown"
    if request.result == "failed":
        return f"failed: {status_text(request.status, None)}"
    return (
        "not sent: it would have changed something" if request.result == "withheld" else "not sent: too many before it"
    )


def compared(view: View) -> list[tuple[str, str, str]]:
    """What is reported of both sides, in words: name, served, rendered."""
    one, other = view.served, view.rendered
    found = [
        ("title", one.title or "none", other.title or "none"),
        ("robots", "; ".join(one.robots) or "none", "; ".join(other.robots) or "none"),
        ("canonical", "; ".join(one.canonical) or "none", "; ".join(other.canonical) or "none"),
        ("words", f"{one.words or 0:,}", f"{other.words or 0:,}"),
        ("links", f"{one.links:,}", f"{other.links:,}"),
    ]
    if view.outcome != "ok":
        found.append(("text", "", view.excerpt or "nothing"))
    if view.leads_to:
        found.append(("leads to", "", view.leads_to))
    return found
