"""Consequences: findings that follow from one that is reported, so that its edit fixes them too.

Where one row says why a whole host is blocked, hidden or open although it should not be, the rows that follow from it on
that host are consequences; so is a row whose subject or target is itself what a more serious row reports.
A consequence is kept with the cause that it follows from. It is neither counted nor printed.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from indrel.checks.catalogue import Check, Follows, checks
from indrel.checks.causes import Mark
from indrel.checks.measures import MANY
from indrel.core.model import CheckClass
from indrel.core.relation import SLASH, VARIANTS
from indrel.core.space import is_in, is_tree
from indrel.decide.site import Site

_SHUTS = ("robots-unreachable", "site-barred", "site-noindex", "start-not-open")
_CLASSES = list(CheckClass)

Leaders = dict[str, Mark]
"""By crawler, the row that explains why it does not get there."""


def find_consequences(site: Site, found: Iterable[Mark]) -> list[Mark]:
    """The marks, each consequence with its leader. What follows for some crawlers only is kept for the others."""
    marks = _of_whole_hosts(site, list(found))
    loud = [m for m in marks if not m.consequence]
    _of_closed_host(loud)
    _of_host_variants(loud)
    _of_same_subject(loud)
    _of_spaces(loud)
    _of_one_rule(loud)
    _of_one_canonical([m for m in loud if not m.consequence])
    _of_single_pages([m for m in loud if not m.consequence])
    _of_one_edit([m for m in loud if not m.consequence])
    return marks


def _follow(mark: Mark, leader: Mark) -> None:
    mark.leader, mark.consequence = leader, True


# ---------------------------------------------------------------- whole hosts


class _Hosts:
    """The rows about whole hosts and pages that explain others, by what they explain."""

    def __init__(self, site: Site, found: Sequence[Mark]) -> None:
        self.site = site
        self.shut = _shut(site, found)
        self.nofollow: Leaders = {}
        self.starts: dict[str, Leaders] = {}
        for mark in found:
            if mark.check == "site-nofollow":
                self.nofollow |= dict.fromkeys(mark.crawlers, mark)
        for mark in (m for m in found if m.check == "start-not-open"):
            for url in {mark.url, site.fronts.get(_origin(mark.url), "")}:
                self.starts.setdefault(url, {}).update(dict.fromkeys(mark.crawlers, mark))
            if _origin(mark.url) == site.base_origin:
                self.nofollow |= dict.fromkeys(set(mark.crawlers) - _led_on(site, mark.url), mark)
        self.visits = {m.url: m for m in found if m.check == "script-needs-visit"}
        self.soft = {m.url: m for m in found if m.check == "soft-missing"}
        self.closed: dict[str, Mark | None] = {
            f"{s}://{h}": None for h in site.intent.closed for s in ("https", "http")
        }
        self.closed |= {_origin(m.url): m for m in found if m.check == "host-open"}

    def __bool__(self) -> bool:
        return bool(self.shut or self.nofollow or self.starts or self.visits or self.soft or self.closed)

    def leaders(self, mark: Mark, follows: Follows) -> Leaders:
        """By crawler, the row that a mark follows from."""
        url, origin = mark.address, _origin(mark.address)
        if url in self.visits and Follows.NEEDED_VISIT in follows:
            return dict.fromkeys(mark.crawlers, self.visits[url])
        found: Leaders = {}
        if Follows.SHUT_HOST in follows and mark.check != "start-not-open":
            found |= self.starts.get(url, {})
        elsewhere = mark.check == "resource-barred" and origin != self.site.base_origin  # pages of another host need it
        for check, crawlers in () if elsewhere else self.shut.get(origin, {}).items():
            if _follows(mark.check, follows, check):
                found |= crawlers
        if Follows.NOFOLLOW in follows and origin == self.site.base_origin:
            found |= self.nofollow
        if Follows.SOFT_404 in follows and url in self.soft:
            found |= dict.fromkeys(self.soft[url].crawlers, self.soft[url])
        return found


def _of_whole_hosts(site: Site, found: list[Mark]) -> list[Mark]:
    hosts = _Hosts(site, found)
    if not hosts:
        return found
    kept, about = [], checks()
    for mark in found:
        origin = _origin(mark.address)
        if origin in hosts.closed and mark.check != "host-open":
            leader = hosts.closed[origin]
            if leader is None:
                continue  # a host that is declared closed and is closed has nothing to report
            _follow(mark, leader)
        else:
            leaders = hosts.leaders(mark, about[mark.check].follows)
            left = tuple(c for c in mark.crawlers if c not in leaders) if leaders else mark.crawlers
            if left:
                mark.crawlers = left
            elif mark.crawlers:
                _follow(mark, leaders[mark.crawlers[0]])
        kept.append(mark)
    return kept


def _led_on(site: Site, start: str) -> set[str]:
    """The crawlers for which a home page that is not open still leads to other pages: it is read, and its links are followed."""
    rows = site.rows(
        f"SELECT {site.all_mask} & ~barred & ~nofollow FROM fact WHERE origin || path = ? AND read AND status < 300",
        [start],
    )
    return set(site.names(rows[0][0])) if rows else set()


def _shut(site: Site, found: Iterable[Mark]) -> dict[str, dict[str, Leaders]]:
    """Per origin the rows that say why a host is shut, and for which crawlers."""
    shut: dict[str, dict[str, Leaders]] = {}
    for mark in sorted((m for m in found if m.check in _SHUTS), key=lambda m: _SHUTS.index(m.check)):
        if _speaks_of_host(site, mark):
            crawlers = shut.setdefault(_origin(mark.url), {}).setdefault(mark.check, {})
            crawlers.update(dict.fromkeys(mark.crawlers, mark))
    return shut


def _follows(check: str, follows: Follows, cause: str) -> bool:
    if check == cause:
        return False
    if check in _SHUTS:  # of several that say why, the first in order is reported
        return _SHUTS.index(check) > _SHUTS.index(cause)
    return (Follows.HIDDEN_HOST if cause == "site-noindex" else Follows.SHUT_HOST) in follows


def _speaks_of_host(site: Site, mark: Mark) -> bool:
    """A home page that is hidden or leads away does not shut the rest; one that is down, locked or barred does not either,
    unless almost not anything else of the host could be read."""
    if mark.check != "start-not-open":
        return True
    read, good = site.rows(
        "SELECT count(*) FILTER (read), count(*) FILTER (read AND status < 300) FROM fact WHERE origin = ? AND known",
        [_origin(mark.url)],
    )[0]
    return bool((good == 0 and read <= 3) or (read and good < 0.1 * read))


def _origin(url: str) -> str:
    """The place of a URL: in a folder, the place of its file."""
    scheme, colon, rest = url.partition("://")
    return f"{scheme}://{rest.partition('/')[0]}" if colon else url


# ---------------------------------------------------------------- single pages and edits


def _of_closed_host(marks: Sequence[Mark]) -> None:
    """A home page whose canonical points to a host that nobody reaches is one of many: the row that counts them leads."""
    pointing = {m.url: m for m in marks if m.check == "canonical-to-closed-host"}
    for mark in marks:
        if mark.check == "start-not-open" and mark.url in pointing:
            _follow(mark, pointing[mark.url])


_EXPLAINS = {
    "gone-to-start": ("listed-redirects", "link-to-redirect"),
    "link-outside-base": ("link-to-gone",),
    "sitemap-foreign": ("listed-redirects", "listed-folded"),
}
"""By check, the ones whose rows about the same subject the same edit fixes, however serious they are."""


def _of_same_subject(marks: Sequence[Mark]) -> None:
    leaders = {(follower, m.address): m for m in marks for follower in _EXPLAINS.get(m.check, ()) if not m.accepted}
    for mark in marks if leaders else ():
        leader = leaders.get((mark.check, mark.address))
        if leader is not None:
            _follow(mark, leader)


_BY_RULE = (
    "canonical-to-redirect", "canonical-host-variant", "canonical-chain", "listed-redirects", "listed-folded",
    "canonical-against-alternates", "link-to-redirect",
)  # fmt: skip
"""Rows whose URLs differ by what one setting of a server or generator decides, in the order in which one leads the others."""


def _of_one_rule(marks: Sequence[Mark]) -> None:
    """Links, canonicals and entries that all lack (or have) the slash that the server wants are one edit of one setting."""
    groups: dict[str, dict[str, list[Mark]]] = {}
    for mark in marks:
        if mark.check in _BY_RULE and not mark.consequence and mark.relation.split(" ")[0] == SLASH:
            groups.setdefault(mark.relation.strip("+-/ "), {}).setdefault(mark.check, []).append(mark)
    for checks_of in groups.values():
        lead = next(check for check in _BY_RULE if check in checks_of)
        leaders = checks_of.pop(lead)
        for members in checks_of.values():
            if len(leaders) >= MANY and 2 * len(leaders) >= len(members):
                for mark in members:
                    _follow(mark, leaders[0])


_IN_SPACES = ("copies-open", "junk-open", "twin-open", "open-unwanted")


def _of_spaces(marks: Sequence[Mark]) -> None:
    """What is open in a space without an end follows from the links that lead in. Only the host of a tree is known."""
    leaders = [(m.place[1], m) for m in marks if m.check == "endless-space" and not is_tree(m.place[1])]
    for mark in marks if leaders else ():
        if mark.check in _IN_SPACES:
            leader = next((one for shape, one in leaders if is_in(mark.address, shape)), None)
            if leader is not None:
                _follow(mark, leader)


def _of_host_variants(marks: Sequence[Mark]) -> None:
    """Pages that are open on two variants of the host are one edit of the server."""
    leader = next((m for m in marks if m.check == "host-variants-serve"), None)
    if leader is None:
        return
    for mark in marks:
        if mark.check == "twin-open" and mark.relation.partition(" ")[0] in VARIANTS:
            _follow(mark, leader)


def _checks_that_follow(flag: Follows, marks: Iterable[Mark]) -> set[str]:
    """The checks among some marks that can follow in one way: asked once per check, not per mark."""
    about = checks()
    return {check for check in {m.check for m in marks} if flag in about[check].follows}


def _weight(mark: Mark) -> tuple[int, int]:
    """How serious a finding is: by severity, then by class."""
    return mark.severity.weight, -_CLASSES.index(mark.cls)


def _of_one_canonical(marks: Sequence[Mark]) -> None:
    """Rows about the canonical of one page are one edit: the less serious follow the most serious, a sitemap's row last."""
    able = _checks_that_follow(Follows.CANONICAL, marks)
    if len(able) < 2:
        return
    places: dict[tuple[str, str], list[Mark]] = {}
    for mark in marks:
        if mark.check in able and mark.target and not mark.accepted:
            places.setdefault((mark.address, mark.target), []).append(mark)
    for members in places.values():
        if len(members) > 1 and len({m.check for m in members}) > 1:
            leader = max(members, key=lambda m: (m.severity.weight, not m.check.startswith("listed-"), _weight(m)))
            for mark in members:
                if mark.check != leader.check and set(mark.crawlers) <= set(leader.crawlers):
                    _follow(mark, leader)


def _of_single_pages(marks: Sequence[Mark]) -> None:
    """A row whose subject, target or rule is what a more serious row reports follows from that."""
    about = checks()
    subjects, targets, rules = (_checks_that_follow(f, marks) for f in (Follows.SUBJECT, Follows.TARGET, Follows.RULE))
    following = subjects | targets | rules
    if not following:
        return
    reporting = {m.check for m in marks if about[m.check].reports is not None}
    by_url: dict[str, list[Mark]] = {}
    by_place: dict[tuple[str, ...], Mark] = {}
    for mark in marks:
        if mark.check in reporting and not mark.accepted:
            by_url.setdefault(mark.address, []).append(mark)
            before = by_place.get(mark.place)
            if before is None or _weight(before) < _weight(mark):
                by_place[mark.place] = mark
    for mark in marks:
        if mark.check not in following or mark.accepted:
            continue
        leader = None
        if mark.check in targets and mark.target:
            leader = _leader(mark, by_url.get(mark.target, ()), about, ties=True)
        if leader is None and mark.check in subjects:
            leader = _leader(mark, by_url.get(mark.address, ()), about)
        if leader is None and mark.check in rules:
            leader = _leader(mark, [by_place[mark.place]] if mark.place in by_place else (), about)
        if leader is not None:
            _follow(mark, leader)


def _leader(mark: Mark, found: Iterable[Mark], about: dict[str, Check], ties: bool = False) -> Mark | None:
    """The most serious of the rows that explain a mark for all its crawlers; a page's own row wins over one that points to it."""
    able = [
        one
        for one in found
        if one is not mark
        and one.check != mark.check
        and set(mark.crawlers) <= set(one.crawlers)
        and (_weight(one) > _weight(mark) or (ties and one.severity is mark.severity))
        and not (Follows.TARGET in about[one.check].follows and one.target == mark.address)
    ]
    return max(able, key=_weight, default=None)


def _of_one_edit(marks: Sequence[Mark]) -> None:
    """Rows of several checks about one rule of robots.txt are one edit: the less serious follow the most serious."""
    about = checks()
    places: dict[tuple[str, ...], list[Mark]] = {}
    for mark in marks:
        if about[mark.check].reports is not None and mark.place[0] == "robots" and not mark.accepted:
            places.setdefault(mark.place, []).append(mark)
    for members in places.values():
        if len({m.check for m in members}) > 1:
            leader = max(members, key=lambda m: (_weight(m), m.url))
            for mark in members:
                if mark.check != leader.check and set(mark.crawlers) <= set(leader.crawlers):
                    _follow(mark, leader)
