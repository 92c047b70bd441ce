"""Help of commands: options in panels, two examples, and the exit codes."""

from __future__ import annotations

import re
from typing import Any

import typer.core

PANELS: dict[str, str] = {
    "intent": "Source", "crawler": "Source", "base": "Source", "also": "Source", "limit": "Source", "per_pattern": "Source",
    "follow_links": "Source", "links_out": "Source", "host_style": "Source", "fallback": "Source",
    "resume": "Source",
    "rate": "Politeness and access", "parallel": "Politeness and access", "timeout": "Politeness and access",
    "connect": "Politeness and access", "headers": "Politeness and access", "read_barred": "Politeness and access",
    "as_crawlers": "Politeness and access",
    "render": "Rendering", "render_limit": "Rendering", "render_memory": "Rendering", "render_pictures": "Rendering",
    "browser": "Rendering", "sandbox": "Rendering",
    "fail_on": "Gate", "baseline": "Gate", "against": "Gate",
}  # fmt: skip
"""The panel of an option of `audit`; what is not here is about output."""

FINDINGS = "0 nothing at or above --fail-on; 1 something is"
CODES: dict[str, str] = {
    "audit": FINDINGS, "demo": "0, because --fail-on is never; otherwise as for audit", "list": "0", "explain": "0", "report": "0",
    "compare": "0 nothing wanted got worse; 1 something did", "recheck": FINDINGS, "history": "0",
    "forget": "0; 1 not confirmed", "reconcile": "0; 1 the other list has pages that cannot be indexed",
    "robots check": FINDINGS, "robots match": "0", "robots impact": "0 no wanted page is lost; 1 one is", "robots matrix": "0",
    "sitemap check": FINDINGS, "intent draft": "0", "intent show": "0", "intent check": "0; 1 an entry is idle, overruled or contradicts",
    "draft robots": "0", "draft sitemap": "0", "draft headers": "0", "draft tickets": "0",
    "ledger request": "0", "ledger done": "0", "ledger removal": "0", "ledger send": "0",
    "ledger status": "0; 1 a removal expires soon and nothing lasting is in place", "checks": "0", "crawlers": "0",
}  # fmt: skip
EXAMPLES: dict[str, tuple[str, str]] = {
    "audit": ("indrel audit www.sarnfell.example -o report.html", "indrel audit build/ --base https://www.sarnfell.example/"),
    "demo": ("indrel demo", "indrel demo --serve"),
    "list": ("indrel list --lost", "indrel list --state hidden --state barred -o pages.csv"),
    "explain": ("indrel explain /huts/over-sarn/", "indrel explain https://www.sarnfell.example/tag/winter/ --json"),
    "report": ("indrel report -o report.html", "indrel report old.indrel -o summary.md -o findings.xlsx"),
    "compare": (
        "indrel compare old.indrel new.indrel",
        "indrel compare staging.indrel live.indrel --map staging.sarnfell.example=www.sarnfell.example",
    ),
    "recheck": ("indrel recheck", "indrel recheck --check listed-hidden"),
    "history": ("indrel history", "indrel history www.sarnfell.example -o history.png"),
    "forget": ("indrel forget --keep 10", "indrel forget --older-than 8w --yes"),
    "reconcile": ("indrel reconcile engine-export.csv", "indrel reconcile access.log --unknown more.txt"),
    "robots check": ("indrel robots check robots.txt", "indrel robots check https://www.sarnfell.example/ --from old.indrel"),
    "robots match": ("indrel robots match robots.txt /huts/ /bookings/", "indrel robots match robots.txt --urls urls.txt --json"),
    "robots impact": ("indrel robots impact snapshot new-robots.txt", "indrel robots impact old.txt new.txt --from old.indrel"),
    "robots matrix": ("indrel robots matrix", "indrel robots matrix robots.txt -o matrix.csv"),
    "sitemap check": ("indrel sitemap check sitemap.xml", "indrel sitemap check sitemap.xml --from old.indrel"),
    "intent draft": ("indrel intent draft -o indrel.toml", "indrel intent draft old.indrel"),
    "intent show": ("indrel intent show /huts/ /search?q=stove", "indrel intent show /huts/ --json"),
    "intent check": ("indrel intent check", "indrel intent check old.indrel --intent indrel.toml"),
    "draft robots": ("indrel draft robots", "indrel draft robots -o robots.txt"),
    "draft sitemap": ("indrel draft sitemap -o sitemap.xml", "indrel draft sitemap -o maps/ --split --gzip"),
    "draft headers": ("indrel draft headers", "indrel draft headers -o conf/"),
    "draft tickets": ("indrel draft tickets -o tickets/", "indrel draft tickets old.indrel -o tickets/"),
    "ledger request": ("indrel ledger request /huts/over-sarn/", "indrel ledger request --check listed-hidden --allowance 20"),
    "ledger done": ("indrel ledger done", "indrel ledger done https://www.sarnfell.example/huts/"),
    "ledger removal": (
        "indrel ledger removal https://www.sarnfell.example/old/*",
        "indrel ledger removal https://www.sarnfell.example/old/* --lift",
    ),
    "ledger send": (
        "indrel ledger send --to https://engine.example/indexnow --key KEY",
        "indrel ledger send --to https://engine.example/indexnow --key KEY --dry-run",
    ),
    "ledger status": ("indrel ledger status", "indrel ledger status --warn 60"),
    "checks": ("indrel checks", "indrel checks listed-hidden"),
    "crawlers": ("indrel crawlers", "indrel crawlers -o crawlers.csv"),
}  # fmt: skip
"""Two examples per command, by its name behind `indrel`."""


OLD_NAMES = re.compile(r", --(also|links-out|snapshot|left-out|by|on)\b")
"""Names that options had before: they still work, and help does not show them."""


def _record(param: Any, ctx: Any) -> tuple[str, str] | None:
    """The two columns of a parameter; a default in words stands without brackets."""
    record = param.get_help_record(ctx)
    if record is None:
        return None
    name, text = record
    return OLD_NAMES.sub("", name), re.sub(r"\[default: \(([^)]*)\)", r"[default: \1", text)


class Command(typer.core.TyperCommand):
    """A command whose help ends with examples and exit codes."""

    def format_options(self, ctx: Any, formatter: Any) -> None:
        panels: dict[str, list[tuple[str, str]]] = {}
        named = ctx.command_path.partition(" ")[2] == "audit"
        for param in self.get_params(ctx):
            if record := _record(param, ctx):
                kind = "Arguments" if param.param_type_name == "argument" else "Options"
                if named and kind == "Options":
                    kind = PANELS.get(param.name or "", "Output")
                panels.setdefault(kind, []).append(record)
        order = ["Arguments", "Options", "Output", "Source", "Gate", "Politeness and access", "Rendering"]
        for name in sorted(panels, key=order.index):
            with formatter.section(name):
                formatter.write_dl(panels[name])

    def format_epilog(self, ctx: Any, formatter: Any) -> None:
        name = ctx.command_path.partition(" ")[2]
        if name not in EXAMPLES:
            return
        with formatter.section("Examples"):
            for line in EXAMPLES[name]:
                formatter.write(f"  {line}\n")
        with formatter.section("Exit codes"):
            formatter.write_text(
                f"{CODES[name]}; 2 wrong usage or unreadable input; 3 incomplete or crashed; 130 interrupted."
            )
