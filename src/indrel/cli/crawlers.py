"""`indrel crawlers`: the crawlers known."""

from __future__ import annotations

from indrel.cli import options as opt
from indrel.cli.console import terminal, write_json
from indrel.cli.output_option import answers


@answers
def show_crawlers(json: opt.JsonOption = False) -> None:
    """Show the crawlers known, with purpose, family and whether groups for `*` hold for them."""
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
    table(terminal(), ["crawler", "purpose", "falls back to", "obeys *", "departs from the standard"], rows)
