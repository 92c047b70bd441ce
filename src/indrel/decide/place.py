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

        from indrel.base.arrow import pa

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


def section_states(site: Site) -> list[tuple[str, dict[str, int], int]]:
    """Each section with its known addresses by state, as the last crawler sees them, and their number.

    The main host's come first, the largest of them at the top.
    """
    state = site.state_sql(len(site.crawlers) - 1)
    found: dict[str, dict[str, int]] = {}
    for section, how, count in site.rows(
        f"SELECT {site.sections.sql} AS section, {state} AS state, count(*) FROM fact WHERE known GROUP BY ALL"
    ):
        found.setdefault(section, {})[how] = count
    rows = [(section, states, sum(states.values())) for section, states in found.items()]
    return sorted(rows, key=lambda row: (row[0].startswith("//"), -row[2], row[0]))
