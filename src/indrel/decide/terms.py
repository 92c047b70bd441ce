"""Terms of the rows that are decided, as SQL: what an intent and the day of the audit make of the facts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from indrel.core.intent import Intent, WantEntry
from indrel.core.model import Want
from indrel.core.page.facts import LITTLE, Mark
from indrel.core.page.tokens import OBSOLETE
from indrel.decide.kinds import ARCHIVES, ASSET_SQL, JUNK
from indrel.ground.sqltext import quoted, quoted_list

CANONICAL_COUNTS = "NOT c.in_body AND (c.fault IS NULL OR c.target IS NULL)"
"""A canonical `c` that engines weigh: in the head or header, and not cancelled by an attribute. One whose value cannot be
used counts: beside another it is a different one, and engines then ignore them all."""

OBSOLETE_TOKEN = f"list_has_any(tokens, [{quoted_list(sorted(OBSOLETE))}])"
NO_SNIPPET = "list_has_any(tokens, ['nosnippet', 'max-snippet:0'])"
EMBEDDED = "list_contains(tokens, 'indexifembedded')"

TRAITS = {
    "canonical-fold": "site AND fold_how = 'canonical'", "redirect": "fold_how IN ('redirect', 'refresh')",
    "gone": "tail = 'gone'", "broken": "tail = 'broken'", "failing": "tail IN ('gone', 'broken')", "locked": "tail = 'locked'",
    "barred": "barred > 0", "noindex": "noindex > 0", "nofollow": "nofollow > 0", "shut": "barred > 0 OR noindex > 0",
    "hide": "want = 'hide'", "lock": "want = 'lock'", "drop": "want = 'drop'", "stated": "entry IS NOT NULL", "closed": "closed",
}  # fmt: skip
"""What an address may be, as it is decided: a check whose every finding rests on one is not asked where none is so."""

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
            WHEN start OR listed OR named THEN '{Want.SHOW}'
            WHEN kind IN ({quoted_list(JUNK)}) OR ({self.empty_archive}) THEN '{Want.HIDE}' ELSE '{Want.ANY}' END"""

    @property
    def empty_archive(self) -> str:
        """Whether a page that should list others lists none."""
        says = f"marks & {int(Mark.SAYS_EMPTY)} > 0 OR marks & {int(Mark.SAYS_ERROR)} > 0"
        return f"html AND status = 200 AND kind IN ({quoted_list(ARCHIVES)}) AND own_words <= {LITTLE} AND ({says} OR own_links = 0)"

    @property
    def expired(self) -> str:
        """Whether a directive's date had passed when the audit began."""
        return f"coalesce(substr(expires, 1, 19) < {quoted(self.started[:19])}, false)"
