"""The command `indrel`: assembles the commands, turns errors into one line and an exit code."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Iterator, Mapping
from contextlib import suppress
from importlib import import_module
from itertools import pairwise
from typing import Annotated, Any, NoReturn

import typer
from typer.core import TyperGroup

from indrel.base.errors import IndrelError, Interrupted
from indrel.base.version import __version__
from indrel.cli.help import Command

COMMANDS = {
    "audit": ("audit:audit", "Find what is wrong in a site, and the lines that cause it."),
    "demo": ("demo:demo", "Audit the built-in demonstration site."),
    "list": ("list_:list_addresses", "List URLs with kind, want, state per crawler and status."),
    "explain": ("explain:explain_address", "Explain one URL: its state, why, and what would change it."),
    "report": ("report:report", "Write reports from a snapshot."),
    "compare": ("compare:compare", "Compare two audits: what changed, and what got worse."),
    "recheck": ("recheck:recheck", "Fetch pages with findings again and show what is fixed."),
    "history": ("history:show_history", "Show all audits of a site: what appeared, what is gone."),
    "forget": ("history:forget", "Remove old snapshots."),
    "reconcile": ("reconcile:reconcile", "Compare an engine's export or a server log with an audit."),
    "ledger": ("ledger:ledger", "Track recrawl requests and removals that expire."),
    "robots": ("robots:robots", "Check, match and compare robots.txt files."),
    "sitemap": ("sitemap:sitemap", "Check sitemap files."),
    "intent": ("intent:intent", "Draft, show and check what you want of your URLs."),
    "draft": ("draft:draft", "Generate robots.txt, sitemaps, header rules and tickets."),
    "checks": ("checks:show_checks", "Show what a check means, why it matters, how to fix it."),
    "crawlers": ("crawlers:show_crawlers", "List the known crawlers with purpose and family."),
}
"""Each command with the place of its function or group, and a line of help. Only the one that runs is loaded."""


class _Commands(Mapping[str, Any]):
    """The commands by name, each made when it is asked for."""

    def __getitem__(self, name: str) -> Any:
        module, _, attribute = COMMANDS[name][0].partition(":")
        found = getattr(import_module(f"indrel.cli.{module}"), attribute)
        if isinstance(found, typer.Typer):
            group = typer.main.get_group(found)
            group.name = name
            return group
        alone = typer.Typer(rich_markup_mode=None, add_completion=False, pretty_exceptions_enable=False)
        alone.command(name, cls=Command)(found)
        return typer.main.get_command(alone)

    def __iter__(self) -> Iterator[str]:
        return iter(COMMANDS)

    def __len__(self) -> int:
        return len(COMMANDS)


class _Root(TyperGroup):
    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self.commands = _Commands()  # type: ignore[assignment]

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, line) for name, (_, line) in COMMANDS.items()])


app = typer.Typer(
    name="indrel",
    cls=_Root,
    help="Audit what search engines can crawl and index on a site, and name the line that decides it.",
    invoke_without_command=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    add_completion=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"indrel {__version__}")
        raise typer.Exit


BEGIN = """Indrel audits what search engines can crawl and index on a site, and names the line that decides it.

Begin with one of these:
  indrel demo                                a fictional site, broken on purpose
  indrel audit www.sarnfell.example          your site, or a folder of built pages: what is wrong, and which line causes it
  indrel explain /some/page/                 one page of it, step by step

All commands: indrel --help"""


@app.callback()
def _root(
    context: typer.Context,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and exit.")
    ] = False,
) -> None:
    if context.invoked_subcommand is None:
        print(BEGIN)


def main() -> None:
    """Run the command line. Exit codes: 0, 1 findings, 2 usage or input, 3 not completed or crashed, 130 interrupted."""
    import gc
    import os
    import signal

    from indrel.cli.streams import Streams

    # Read when NumPy is imported: threads that are never used cost 0.1 s of CPU.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    # Few objects form cycles: looking for them took 5 % of the CPU.
    gc.set_threshold(20_000, 20, 50)
    signal.signal(
        signal.SIGTERM, signal.default_int_handler
    )  # a run that is ended from outside leaves nothing behind either
    streams = Streams()
    if "--verbose" in sys.argv or "-v" in sys.argv:
        import logging

        logging.basicConfig(level=logging.DEBUG, format="%(name)s: %(message)s")
        for noisy in ("asyncio", "matplotlib"):
            logging.getLogger(noisy).setLevel(logging.WARNING)
    code = _run()
    if why := streams.fault():
        print(f"indrel: {why}", file=sys.stderr)
        code = max(code, 2)
    sys.exit(code)


def entry() -> NoReturn:
    """The installed program: `main`, then exit. Skip interpreter teardown: it costs 10 % of a short command."""
    import atexit
    import os

    code = 1
    try:
        main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else code
    with suppress(OSError):
        sys.stdout.flush()
        sys.stderr.flush()
    atexit._run_exitfuncs()
    os._exit(code)


def _whole(words: list[str]) -> list[str]:
    """The words of the command line, with the value that `--render` has where none is given, and `-o=FILE` as `-o FILE`."""
    return [
        "--render=sample"
        if word == "--render" and after not in ("sample", "all")
        else f"-o{word[3:]}"
        if word.startswith("-o=")
        else word
        for word, after in pairwise([*words, ""])
    ]


def _altered() -> str | None:
    """What is wrong with the contents of a snapshot that was opened, if anything is: then the fault is the file's."""
    from indrel.snapshot import opening, validity

    for path in dict.fromkeys(opening.opened):
        try:
            if why := validity.fault_of(path):
                return f"{path} is damaged or was altered: {why}; audit again, or use another snapshot"
        except IndrelError as error:
            return str(error)
        except Exception:
            continue
    return None


def _run() -> int:
    """The exit code; what went wrong is reported in one line."""
    from indrel.base.plain import safe
    from indrel.cli.streams import ReaderGone

    try:
        app(args=_whole(sys.argv[1:]))
    except SystemExit as end:
        if end.code == Interrupted.exit_code:  # so an interrupt comes through the options' parser
            print("indrel: interrupted: the result is missing or incomplete", file=sys.stderr)
        return end.code if isinstance(end.code, int) else 0 if end.code is None else 2
    except IndrelError as error:
        print(f"indrel: {safe(str(error))}", file=sys.stderr)
        return error.exit_code
    except KeyboardInterrupt:
        from indrel.snapshot import opening

        kept = (
            f"; the snapshot is complete: indrel audit {shlex.quote(str(opening.opened[-1]))}" if opening.opened else ""
        )
        print(f"indrel: interrupted: the result is missing or incomplete{kept}", file=sys.stderr)
        return Interrupted.exit_code
    except ReaderGone:
        return 0
    except Exception as error:
        import logging

        from indrel.snapshot.faults import explained

        if isinstance(error, OSError) and error.filename:
            print(f"indrel: {safe(str(error.filename))} cannot be read or written: {error.strerror}", file=sys.stderr)
            return 2
        if meant := explained(error):
            logging.getLogger("indrel").debug("database", exc_info=True)
            print(f"indrel: {meant}", file=sys.stderr)
            return meant.exit_code

        logging.getLogger("indrel").debug("fault", exc_info=True)
        if altered := _altered():
            print(f"indrel: {altered}", file=sys.stderr)
            return 2
        print(
            f"indrel: unexpected error: {safe(f'{type(error).__name__}: {error}'[:300])} (please report it with the output of --verbose)",
            file=sys.stderr,
        )
        return 3
    return 0
