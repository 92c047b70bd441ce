"""Terms of the rows that are decided, as SQL: what an intent and the day of the audit make of the facts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from indrel.base.sqltext import quoted, quoted_list
from indrel.core.intent import Intent, WantEntry
from indrel.core.model import Want
from indrel.core.page.facts import LITTLE, Mark
from indrel.core.page.tokens import OBSOLETE
from indrel.decide.kinds import ARCHIVES, ASSET_SQL, JUNK, PRIVATE

CANONICAL_COUNTS = "NOT c.in_body AND (c.fault IS NULL OR c.target IS NULL)"
"""A canonical `c` that engines weigh: in the head or header, and not cancelled by an attribute. One whose value cannot be
used counts: beside another it is a different one, and engines then ignore them all."""

OBSOLETE_TOKEN = f"list_has_any(tokens, [{quoted_list(sorted(OBSOLETE))}])"
NO_SNIPPET = "list_has_any(tokens, ['nosnippet', 'max-snippet:0'])"
EMBEDDED = "list_contains(tokens, 'indexifembedded')"

FILE = "(read AND NOT html AND kind NOT IN ('feed', 'search-results', 'parameter-variant'))"
"""Whether an address is a document that is no page: only a header can keep it out of listings."""

FAILING = "(tail IN ('gone', 'broken') OR tail = 'locked' AND want = 'show' AND entry IS NOT NULL)"
"""Whether a link leads to an error: a link to a page behind a login is for users who can log in, unless you want it shown."""

FAILING_F = FAILING.replace("tail", "f.tail").replace("want", "f.want").replace("entry", "f.entry")
"""The same over `f`."""

KEPT_FROM_ALL = f"(barred > 0 OR noindex > 0 OR tail = 'locked') AND regexp_matches(lower(path), '{PRIVATE}')"
"""Whether a URL is closed whose words say that it is meant for few: a sitemap that lists it does not show that it is wanted."""

NEEDS_NOINDEX = "known AND want = 'hide' AND entry IS NOT NULL AND noindex = 0 AND tail IN ('', 'unread')"
"""Whether you want a URL hidden and it has no noindex, blocked or not: robots.txt cannot keep it out of the index."""

TRAITS = {
    "canonical-fold": "site AND fold_how = 'canonical'", "redirect": "fold_how IN ('redirect', 'refresh')",
    "fold": "site AND fold_how IS NOT NULL", "gone": "tail = 'gone'", "broken": "tail = 'broken'", "failing": FAILING,
    "locked": "tail = 'locked'",
    "barred": "barred > 0", "noindex": "noindex > 0", "nofollow": "nofollow > 0", "shut": "barred > 0 OR noindex > 0 OR tail = 'locked'",
    "hide": "want = 'hide'", "lock": "want = 'lock'", "drop": "want = 'drop'", "stated": "entry IS NOT NULL", "closed": "closed",
}  # fmt: skip
"""What an address may be, as is decided: a check whose every finding rests on one is not asked where none is so."""

ROW_TRAITS = {
    "canonical": {
        "several-canonicals": "count(*) > count(DISTINCT address)", "unusable-canonical": "bool_or(fault IS NOT NULL)",
        "canonical-in-body": "bool_or(in_body)", "canonical-fragment": "bool_or(contains(href, '#'))",
        "relative-canonical": "bool_or(NOT starts_with(href, 'http'))",
    },
    "directive": {
        "several-directives": "count(*) > count(DISTINCT address)", "void-directive": "bool_or(void IS NOT NULL)",
        "directive-in-body": "bool_or(in_body)", "faulty-directive": "bool_or(len(faults) > 0)",
        "several-tokens": "bool_or(len(tokens) > 1)", "expiry": "bool_or(expires IS NOT NULL)",
        "obsolete-token": f"bool_or({OBSOLETE_TOKEN})", "withheld-snippet": f"bool_or({NO_SNIPPET})",
        "embedded-token": f"bool_or({EMBEDDED})",
    },
}  # fmt: skip
"""The same of the rows of a table, told by all of them at once: nearly every site has such rows, and few have faulty ones."""


def _of_pages(entry: WantEntry) -> str:
    """What an entry for pages leaves out: scripts, style sheets and images."""
    return f" AND NOT {ASSET_SQL}" if entry.is_of_pages else ""


NAMED_WELL = "named AND (followed + unfollowed > 0 OR (tail = '' AND noindex = 0))"
"""Whether canonicals of other pages point to a URL that is linked or open: a target that is neither is the canonical's fault."""

MOST_AT_ONCE = 500
"""Entries of an intent that are put into one question: the database plans in memory, 20 KB for each."""


@dataclass(frozen=True)
class Terms:
    """`started` is when the audit began, ISO 8601."""

    intent: Intent
    started: str

    @property
    def closed(self) -> str:
        """Whether an address stands on a host that is declared closed."""
        names = quoted_list(sorted(self.intent.closed))
        return f"substr(origin, strpos(origin, '://') + 3) IN ({names})" if self.intent.closed else "false"

    @property
    def entry(self) -> str:
        """The number of the intent's entry that decides (the last that matches), or null; null too where it takes pieces."""
        pieces = list(self.entries(MOST_AT_ONCE))
        return pieces[0] if len(pieces) == 1 else "NULL::INTEGER"

    def entries(self, at_once: int) -> Iterator[str]:
        """The same in pieces, the last entries first: the first that gives a number decides."""
        cases = [
            f"WHEN {e.sql(self.intent.closed)}{_of_pages(e)} THEN {number}"
            for number, e in enumerate(self.intent.wants)
        ]
        for end in range(len(cases), 0, -at_once):
            yield f"CASE {' '.join(reversed(cases[max(0, end - at_once) : end]))} END::INTEGER"

    @property
    def want(self) -> str:
        """What is wanted: as the intent states it, else implied."""
        numbers: dict[Want, list[str]] = {}
        for number, entry in enumerate(self.intent.wants):
            numbers.setdefault(entry.want, []).append(str(number))
        stated = [f"WHEN entry IN ({', '.join(those)}) THEN '{want}'" for want, those in numbers.items()]
        return f"""CASE {" ".join(stated)} WHEN closed THEN '{Want.ANY}'
            WHEN start OR (listed OR ({NAMED_WELL})) AND NOT ({KEPT_FROM_ALL}) THEN '{Want.SHOW}'
            WHEN kind IN ({quoted_list(JUNK)}) OR ({self.empty_archive}) THEN '{Want.HIDE}' ELSE '{Want.ANY}' END"""

    @property
    def empty_archive(self) -> str:
        """Whether a page that should list others lists none: it says so, has no links, or its links lead to other archives alone."""
        says = f"marks & {int(Mark.SAYS_EMPTY)} > 0 OR marks & {int(Mark.SAYS_ERROR)} > 0"
        shell, nothing = int(Mark.SHELL), int(Mark.LISTS_NOTHING)
        empty = f"own_words <= {LITTLE} AND ({says} OR own_links = 0 AND marks & {shell} = 0) OR marks & {nothing} > 0"
        return f"html AND status = 200 AND kind IN ({quoted_list(ARCHIVES)}) AND ({empty})"

    def form(self, row: str, path: str = "") -> str:
        """What the variants of one page have in common, as SQL over a row of `fact`: host without `www`, path without parameters,
        slash, index file and ending, in lower case."""
        host = f"regexp_replace({row}.origin, '^https?://(www\\.)?', '')"
        path = path or f"split_part({row}.path, '?', 1)"
        return f"lower({host} || regexp_replace(regexp_replace({path}, '/(index\\.(html?|php))?$', ''), '\\.(html?|php)$', ''))"

    def by_pattern(self, row: str) -> str:
        """Whether the want of a row is not stated for that one URL."""
        exact = ", ".join(str(number) for number, entry in enumerate(self.intent.wants) if entry.names_one)
        return f"coalesce({row}.entry, -1) NOT IN ({exact or -2})"

    @property
    def another_form(self) -> str:
        """Whether a URL `f` that a pattern wants shown is only a variant of the page `t` that it leads to: the pattern means the
        page."""
        whole = f"{self.form('f', 'f.path')} = {self.form('t', 't.path')}"
        return f"""{self.by_pattern("f")} AND NOT f.listed AND NOT f.named
            AND (f.fold_how IN ('redirect', 'refresh') AND (f.start AND t.site OR {whole})
            OR (f.fold_how = 'canonical' OR f.kind = 'parameter-variant') AND {self.form("f")} = {self.form("t")})"""

    @property
    def expired(self) -> str:
        """Whether a directive's date had passed when the audit began."""
        return f"coalesce(substr(expires, 1, 19) < {quoted(self.started[:19])}, false)"
