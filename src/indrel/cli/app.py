"""The command `indrel`: assembles the commands, turns errors into one line and an exit code."""

from __future__ import annotations

import io
import os
import sys
from typing import Annotated

import typer

from indrel import __version__
from indrel.cli import (
    audit,
    checks,
    compare,
    crawlers,
    demo,
    draft,
    explain,
    intent,
    ledger,
    list_,
    recheck,
    reconcile,
    report,
    robots,
    sitemap,
)
from indrel.errors import IndrelError

app = typer.Typer(
    name="indrel",
    help="Audit what search crawlers may fetch and list on a site, and name the line that decides it.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    add_completion=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command("audit")(audit.audit)
app.command("demo")(demo.demo)
app.command("list")(list_.list_addresses)
app.command("explain")(explain.explain_address)
app.command("compare")(compare.compare)
app.command("recheck")(recheck.recheck)
app.command("reconcile")(reconcile.reconcile)
app.command("report")(report.report)
app.add_typer(robots.robots, name="robots")
app.add_typer(sitemap.sitemap, name="sitemap")
app.add_typer(intent.intent, name="intent")
app.add_typer(draft.draft, name="draft")
app.add_typer(ledger.ledger, name="ledger")
app.command("checks")(checks.show_checks)
app.command("crawlers")(crawlers.show_crawlers)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"indrel {__version__}")
        raise typer.Exit


@app.callback()
def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say the version and exit.")
    ] = False,
) -> None:
    pass


def main() -> None:
    """Run the command line. Exit codes: 0, 1 findings, 2 usage or input, 3 not completed or crashed, 130 interrupted."""
    from indrel.plain import safe

    for stream in (sys.stdout, sys.stderr):  # sites hold characters that a terminal's encoding may not
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    if "--verbose" in sys.argv or "-v" in sys.argv:
        import logging

        logging.basicConfig(level=logging.DEBUG, format="%(name)s: %(message)s")
        for noisy in ("asyncio", "aiohttp", "matplotlib"):
            logging.getLogger(noisy).setLevel(logging.WARNING)
    try:
        app()
    except IndrelError as error:
        print(f"indrel: {safe(str(error))}", file=sys.stderr)
        sys.exit(error.exit_code)
    except KeyboardInterrupt:
        print("indrel: interrupted", file=sys.stderr)
        sys.exit(130)
    except BrokenPipeError:
        # The reader has gone: nothing can be said any more, and closing must not complain.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except Exception as error:
        import logging

        logging.getLogger("indrel").debug("fault", exc_info=True)
        print(
            f"indrel: a fault of Indrel itself: {safe(f'{type(error).__name__}: {error}'[:300])} "
            "(run again with --verbose and report what it prints)",
            file=sys.stderr,
        )
        sys.exit(3)
