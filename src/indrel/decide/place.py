"""Where addresses stand among the others: their section, and their distance from the start page."""

from __future__ import annotations

from indrel.decide.site import Site


def placed(site: Site) -> None:
    """Make sure that `place` is there: the file's where decided rows are kept, else a temporary table."""
    if site.decided or "place" in site.kept:
        return
    from indrel.decide.graph import clicks_of

    clicks = clicks_of(site)
    if clicks is None:
        site.con.execute("CREATE TEMP TABLE clicked (id INTEGER, clicks INTEGER)")
    else:
        import numpy as np
        import pyarrow as pa

        reached = np.flatnonzero(clicks >= 0)
        site.con.register("incoming", pa.table({"id": reached.astype(np.int32), "clicks": clicks[reached]}))
        site.con.execute("CREATE TEMP TABLE clicked AS SELECT * FROM incoming")
        site.con.unregister("incoming")
    site.con.execute(
        f"""CREATE TEMP TABLE place AS SELECT f.id AS address, {site.sections.sql} AS section, c.clicks::INTEGER AS clicks
        FROM fact f LEFT JOIN clicked c ON c.id = f.id WHERE f.site"""
    )
    site.con.execute("DROP TABLE clicked")
    site.kept["place"] = True
