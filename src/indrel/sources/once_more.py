"""URLs that returned 5xx or nothing are requested once more at the end of a crawl: a busy server is no broken page."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING

from indrel.core.model import plural
from indrel.sources import fetch

if TYPE_CHECKING:
    from indrel.sources.site import LiveSite

MOST = 1_000
"""URLs that are requested once more; with more of them the server is too busy for its pages to be judged."""


async def once_more(site: LiveSite) -> bool:
    """After a pause, queue such URLs again. Gives whether all of them will have been requested twice."""
    site.recorder.commit(force=True)
    rows = site.recorder.writer.con.execute(
        """SELECT a.id, a.origin || a.path FROM answer n JOIN address a ON a.id = n.address
        WHERE a.site AND (n.status >= 500 OR n.status IS NULL) AND a.id NOT IN (SELECT address FROM given WHERE why = 'variant')
        ORDER BY a.id LIMIT ?""",
        [MOST + 1],
    ).fetchall()
    if site.lost or site.interrupted or len(rows) > MOST:
        return False
    if rows:
        site.options.progress.stage(f"requesting {plural(len(rows), 'URL')} once more")
        await asyncio.sleep(fetch.LATER)
        site.recorder.writer.forget(number for number, _ in rows)
        for number, url in rows:
            site.again(number, url)
    return True
