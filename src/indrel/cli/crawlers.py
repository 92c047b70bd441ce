"""`indrel crawlers`: the known crawlers."""

from __future__ import annotations

from indrel.base.tables import csv_bytes
from indrel.cli import options as opt
from indrel.cli.console import out_console, terminal, write_json
from indrel.cli.output_option import answers


@answers
def show_crawlers(json: opt.JsonOption = False, csv: bool = False) -> None:
    """List the known crawlers with purpose and family, and whether groups for `*` apply to them."""
    from indrel.core.crawlers import table as known
    from indrel.reports.columns import table

    found = sorted(known().values(), key=lambda c: (c.purpose, c.token))
    if json:
        for one in found:
            document = {
                "token": one.token, "name": one.name, "purpose": one.purpose, "family": one.family or None,
                "fallback": one.fallback or None, "star": one.star, "departs": one.departs or None,
            }  # fmt: skip
            write_json(document)
        return
    rows = [[c.name, c.purpose, c.family or c.fallback, "yes" if c.star else "no", c.departs] for c in found]
    heads = ["crawler", "purpose", "falls back to", "obeys *", "differs from the standard"]
    if csv:
        out_console().file.write(csv_bytes(heads, rows).decode())
        return
    table(terminal(), heads, rows)
