"""The addresses of a snapshot as rows: what `indrel list` shows."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from indrel.core.intent import KIND_NAMES
from indrel.core.model import State, Want
from indrel.core.page.tokens import nearest
from indrel.decide.graph import clicks_of
from indrel.decide.kinds import why
from indrel.decide.site import Site
from indrel.errors import UsageError
from indrel.reports import write_whole
from indrel.reports.csv_table import field
from indrel.sqltext import quoted


@dataclass(frozen=True, slots=True)
class AddressRow:
    url: str
    kind: str
    section: str
    want: str
    stated: bool
    states: dict[str, str]
    status: int | None
    folds_into: str | None
    clicks: int | None = None
    kind_because: str = ""

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url,
            "kind": self.kind,
            "section": self.section,
            "want": {"value": self.want, "stated": self.stated},
            "states": self.states,
            "status": self.status,
            "folds_into": self.folds_into,
            "clicks": self.clicks,
            "kind_because": self.kind_because,
        }


def _known_words(given: Sequence[str] | None, words: Iterable[str], what: str) -> list[str]:
    known = list(words)
    for word in given or ():
        if word not in known:
            near = nearest(word, known)
            hint = f"; {near} was probably meant" if near else f": choose one of {' '.join(known)}"
            raise UsageError(f"there is no {what} {word!r}{hint}")
    return list(given or ())


def listed(
    site: Site,
    *,
    states: Sequence[str] | None = None,
    wants: Sequence[str] | None = None,
    kinds: Sequence[str] | None = None,
    sections: Sequence[str] | None = None,
    unreached: bool = False,
) -> Iterator[AddressRow]:
    """Known addresses in order, those that meet all filters; a state counts if any crawler is in it."""
    chosen_states = set(_known_words(states, [s.value for s in State], "state"))
    chosen_wants = set(_known_words(wants, [w.value for w in Want], "want"))
    chosen_kinds = set(_known_words(kinds, KIND_NAMES, "kind"))
    rows = _rows(site, chosen_states, chosen_wants, chosen_kinds, set(sections or ()))
    return (row for row in rows if row.clicks is None) if unreached else rows


COLUMNS = (
    "kind",
    "section",
    "want",
    "stated",
    "status",
    "media_type",
    "folds_into",
    "listed",
    "followed",
    "unfollowed",
)
"""What is told of an address beside itself and its states."""


def address_sql(site: Site) -> str:
    """Known addresses in order, the main host's first: `id`, `url`, `kind_rule`, `COLUMNS`, a column a crawler."""
    states = ", ".join(f'{site.state_sql(i)} AS "{c.token}"' for i, c in enumerate(site.crawlers))
    tokens = ", ".join(f'f."{c.token}"' for c in site.crawlers)
    return f"""SELECT f.id, f.origin || f.path AS url, f.kind_rule, f.kind, f.section, f.want, f.entry IS NOT NULL AS stated, f.status,
        f.media_type, coalesce(t.origin || t.path, d.origin || d.path) AS folds_into, f.listed, f.followed, f.unfollowed, {tokens}
    FROM (SELECT *, {site.sections.sql} AS section, {states} FROM fact WHERE known) f
    LEFT JOIN address t ON t.id = f.folds_into LEFT JOIN address d ON d.id = f.folds_to
    ORDER BY f.origin <> {quoted(site.base_origin)}, f.origin, f.path"""


def _rows(site: Site, states: set[str], wants: set[str], kinds: set[str], sections: set[str]) -> Iterator[AddressRow]:
    clicks = clicks_of(site)
    names = [c.token for c in site.crawlers]
    site.con.execute(address_sql(site))
    while batch := site.con.fetchmany(5_000):
        for number, url, rule, kind, section, want, stated, status, _, into, _, _, _, *found in batch:
            if (
                (not states or states & set(found))
                and (not wants or want in wants)
                and (not kinds or kind in kinds)
                and (not sections or section in sections)
            ):
                depth = int(clicks[number]) if clicks is not None and clicks[number] >= 0 else None
                states_of = dict(zip(names, found, strict=True))
                yield AddressRow(url, kind, section, want, stated, states_of, status, into, depth, why(rule))


def write(file: Path, rows: Iterable[AddressRow], site: Site) -> None:
    """Write rows as CSV, or as JSON (one object a line), by the file's ending."""
    out = io.StringIO(newline="")
    if file.suffix.lower() == ".json":
        for row in rows:
            out.write(json.dumps(row.as_json(), ensure_ascii=False) + "\n")
    elif file.suffix.lower() == ".csv":
        names = [c.token for c in site.crawlers]
        table = csv.writer(out, lineterminator="\r\n")
        table.writerow(
            ["url", "kind", "section", "want", "stated", *names, "status", "folds_into", "clicks", "kind_because"]
        )
        for row in rows:
            values = [row.url, row.kind, row.section, row.want, "yes" if row.stated else "no",
                      *(row.states[n] for n in names), str(row.status or ""), row.folds_into or "",
                      "" if row.clicks is None else str(row.clicks), row.kind_because]  # fmt: skip
            table.writerow([field(v) for v in values])
    else:
        raise UsageError(f"{file}: addresses can be written as .csv or .json")
    write_whole(file, out.getvalue().encode("utf-8", "backslashreplace"))
