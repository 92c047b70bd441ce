"""`indrel demo`: the main job on the built-in demonstration site."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Annotated

import typer

from indrel.cli import options as opt
from indrel.cli.audit import finish
from indrel.cli.console import ProgressLine, say
from indrel.cli.gathering import NONE_GIVEN, Given, gather_options, gathers

FOLDER = Path("indrel-demo")
INTENT = FOLDER / "indrel.toml"
TRIES = ("indrel list --lost", "indrel reconcile indrel-demo/engine-export.csv")


@gathers("render", "render_limit", "render_memory", "render_pictures", "browser", "sandbox")
def demo(
    serve: Annotated[bool, typer.Option("--serve", help="Keep the site running, to try commands on it.")] = False,
    port: Annotated[
        int, typer.Option("--port", min=0, max=65_535, help="The port to serve on; 0 means any free one.")
    ] = 0,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    snapshot: opt.SnapshotOption = None,
    output: opt.OutputOption = None,
    json: opt.JsonOption = False,
    fail_on: opt.FailOnOption = "never",
    given: Given = NONE_GIVEN,
    everything: opt.AllOption = False,
    quiet: opt.QuietOption = False,
    verbose: opt.VerboseOption = False,
) -> None:
    """Audit the built-in demonstration site, served on this machine, and write all reports to indrel-demo/."""
    from indrel import pipeline
    from indrel.demo.endpoint import KEY, Endpoint
    from indrel.demo.samples import write_samples
    from indrel.demo.server import DemoServer
    from indrel.demo.site import START, intent_text
    from indrel.gather.parsing import ParserPool
    from indrel.reports import DRAWN, WRITERS, check_endings

    opt.fail_word(fail_on)
    check_endings(output or [])
    if intent is None:
        intent = INTENT
        FOLDER.mkdir(exist_ok=True)
        intent.write_text(intent_text(), "utf-8")
        write_samples(FOLDER)
    wants = pipeline.load_intent(intent)
    pool = None if serve else ParserPool()  # before the server's threads begin
    with DemoServer(port) as server:
        if serve:
            with Endpoint() as endpoint:
                _serve(server.connect, START, intent)
                print(
                    f"  indrel ledger request {START}huts/over-sarn/ && indrel ledger send --to {endpoint.address} --key {KEY}",
                    flush=True,  # so that a pipe gets it at once
                )
                with contextlib.suppress(KeyboardInterrupt):  # the usual way to end it
                    server.wait()
            return
        say(
            "This is the demonstration: the site of a fictional trust that runs mountain huts, broken on purpose.",
            quiet,
        )
        progress = ProgressLine(quiet)
        chosen = given | {"connect": server.connect, "rate": 0, "read_barred": True, "as_crawlers": True}
        wanted = gather_options(chosen, crawler, wants, progress=progress)
        gathered = pipeline.gather(START, wanted, snapshot, pool=pool)
        progress.clear()
    pipeline.keep_intent(gathered.snapshot, wants)
    site, verdict = pipeline.examine(gathered.snapshot, crawler, wants)
    if output is None and not json:
        output = [FOLDER / f"report{ending}" for ending in WRITERS if ending not in DRAWN]
    finish(
        site,
        verdict,
        output=output,
        json=json,
        fail_on=fail_on,
        everything=everything or verbose,
        quiet=quiet,
        cut=gathered.cut_short,
        tries=TRIES,
    )


def _serve(connect: list[str], start: str, intent: Path) -> None:
    say(f"Serving {start} and its other hosts on 127.0.0.1 until Ctrl-C. Try these in another terminal:")
    options = " ".join(f"--connect {one}" for one in connect)
    print(f"  indrel audit {start} --rate 0 --intent {intent} {options}")
    print("  indrel list --state barred")
    print("  indrel explain /tag/winter/")
