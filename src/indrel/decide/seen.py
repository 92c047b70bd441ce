"""What pages that scripts fill say once they are rendered, in the terms of what served pages say."""

from __future__ import annotations

from typing import Any

from indrel.core.page.facts import SHELL_WORDS, Mark
from indrel.core.page.wording import wording_marks

SHELL = f"p.own_words <= {SHELL_WORDS} AND p.own_links = 0 AND p.scripts IS NOT NULL"
"""Whether a page `p` is served with next to nothing, and scripts may fill it."""


MARKS = f"""coalesce(p.marks, 0) | coalesce(se.marks, 0)
    | CASE WHEN p.heading IS NULL AND {SHELL} THEN {int(Mark.SHELL)} ELSE 0 END"""
"""The marks of a page `p`, with those of `seen` as `se`."""


def stage_seen(con: Any) -> None:
    """`seen`: the marks that the rendered text gives, of pages that are served as shells."""
    con.execute("CREATE TEMP TABLE seen (address INTEGER, marks INTEGER)")
    rows = con.execute(
        f"""SELECT DISTINCT ON (r.address) r.address, r.title, r.excerpt, r.own_words FROM render r JOIN page p ON p.address = r.address
        WHERE r.outcome = 'ok' AND {SHELL} ORDER BY r.address, r.mask"""
    ).fetchall()
    said = [(n, wording_marks(text or "", [title or ""], words or 0)) for n, title, text, words in rows]
    if told := [(number, int(marks)) for number, marks in said if marks]:
        numbers, marks = zip(*told, strict=True)
        con.execute("INSERT INTO seen SELECT unnest(?::INTEGER[]), unnest(?::INTEGER[])", [list(numbers), list(marks)])
