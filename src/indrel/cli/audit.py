"""`indrel audit`: the main job."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import AuditCutShort, Interrupted, UsageError
from indrel.cli import options as opt
from indrel.cli.console import ProgressLine, files, say, terminal, write_whole
from indrel.cli.gathering import NONE_GIVEN, Given, gather_options, gathers
from indrel.cli.snapshots import require_read

if TYPE_CHECKING:
    from indrel.base.errors import IndrelError
    from indrel.cli.against import LiveSide
    from indrel.core.intent import Intent
    from indrel.core.model import Verdict
    from indrel.decide.site import Site
    from indrel.sources.options import GatherOptions

SOON_JUDGED = 5_000
"""Pages up to which an interrupted audit is still judged: beyond, that would take too long."""

SHARES_LOGIN = (
    "--render with --header: scripts that pages load from other hosts can read what the site returns to your login"
)
MOST_ADDED = 6
"""Entries of the intent file that are new since the baseline, and are listed."""


@gathers()
def audit(
    sources: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SOURCE]...",
            help="A URL, a folder of built files, WARC files or a folder of them, a text file of URLs, or a snapshot.",
            show_default="that of [audit] in indrel.toml",
        ),
    ] = None,
    intent: opt.IntentOption = None,
    crawler: opt.CrawlerOption = None,
    snapshot: opt.SnapshotOption = None,
    output: opt.OutputOption = None,
    json: opt.JsonOption = False,
    fail_on: opt.FailOnOption = "fix",
    given: Given = NONE_GIVEN,
    baseline: opt.BaselineOption = None,
    against: opt.AgainstOption = None,
    resume: opt.ResumeOption = False,
    everything: opt.AllOption = False,
    quiet: opt.QuietOption = False,
    verbose: opt.VerboseOption = False,
) -> None:
    """Audit a site, a folder or an archive: what crawlers can fetch and index, what is wrong, and which line causes it."""
    from indrel import pipeline
    from indrel.reports import check_endings

    opt.fail_word(fail_on)
    opt.doubt_crawlers(crawler, quiet)
    wants = pipeline.load_intent(intent, sources[0] if sources else None)
    say(f"intent: {wants.where}", quiet or intent is not None or Path(wants.where).parent == Path())
    named, given, output = _planned(sources or [], given, output, wants)
    opt.render_word(given["render"])
    check_endings(output or [])
    progress = ProgressLine(quiet)
    cut: IndrelError | None = None
    path, kind = Path(named[0]), pipeline.source_kind(named)
    if against:
        pipeline.source_kind(against)  # refused before anything is read
    wanted: GatherOptions | None = None
    if given["render"] and kind == "snapshot":
        say("--render has no effect on a snapshot, only on sites, folders and archives", quiet)
    live: LiveSide | None = None
    if against or kind != "snapshot":
        wanted = gather_options(given, crawler, wants, progress=progress)
    if given["render"] and given["headers"]:
        say(SHARES_LOGIN)
    rolling = baseline is not None and snapshot is not None and snapshot.resolve() == baseline.resolve()
    if rolling and kind == "snapshot":
        raise UsageError(
            "--save and --baseline name the same file, but SOURCE is a snapshot: nothing would be gathered"
        )
    if against and wanted:
        from indrel.cli.against import live_side

        live = live_side(against, wanted, quiet)
    if wanted and kind == "site":
        wanted = replace(wanted, before=_before(baseline, live, crawler, wants))
    if wanted and kind != "snapshot":
        into = Path(f"{snapshot}.part") if rolling else snapshot
        try:
            gathered = pipeline.gather(named, wanted, into, resume)
        finally:
            progress.clear()
        path, cut = gathered.snapshot, gathered.cut_short
        pipeline.keep_intent(path, wants)
        if isinstance(cut, Interrupted) and gathered.pages > SOON_JUDGED:
            say(f"indrel: {cut}; to see the result of the {gathered.pages:,} pages that were read: indrel audit {path}")
            raise typer.Exit(cut.exit_code)
    if live and wanted:
        from indrel.cli.against import hold

        hold(path, live, wanted, wants, crawler, json, cut, kind == "site")
    site, verdict = pipeline.examine(path, crawler, wants)
    if baseline:
        try:
            verdict = since(baseline, site, verdict, wants)
        except AuditCutShort as error:  # the audit is still shown, and the gate does not pass
            cut = cut or error
    finish(
        site, verdict, output=output, json=json, fail_on=fail_on, everything=everything or verbose, quiet=quiet, cut=cut,
        replaces=snapshot if rolling else None,
    )  # fmt: skip


PLANNED = ("base", "rate", "limit", "render")
"""Options of gathering that `[audit]` in the intent file may hold."""


def _planned(
    sources: list[str], given: Given, output: list[Path] | None, wants: Intent
) -> tuple[list[str], Given, list[Path] | None]:
    """Without SOURCE, that of the intent file, with its options where the command line has none of its own."""
    from indrel.sources.options import GatherOptions

    if sources:
        return sources, given, output
    plan = wants.audit
    if plan is None or not plan.source:
        raise UsageError('name a SOURCE, or state it in indrel.toml: [audit] source = "https://www.sarnfell.example/"')
    folder = Path(wants.where).parent
    here = folder / plan.source
    own = {name: getattr(plan, name) for name in PLANNED if getattr(plan, name) not in (None, "")}
    unset = {name: value for name, value in own.items() if given.get(name) == getattr(GatherOptions, name)}
    for one in plan.unused:
        say(f"{wants.where} names {one}: it is not used unless you give it yourself")
    return (
        [str(here) if here.exists() else plan.source],
        {**given, **unset},
        output or [folder / name for name in plan.output],
    )


def _before(
    baseline: Path | None, live: LiveSide | None, crawler: list[str] | None, wants: Intent
) -> Callable[[str], Iterable[str]]:
    """More URLs to request from a site: the wanted pages of the baseline, or of the live site. An unusable one is refused here,
    before anything is read."""
    from indrel import pipeline
    from indrel.core.mapping import AddressMap

    path = live.path if live else baseline
    if path is None:
        return lambda base: ()
    pipeline.open_site(path, crawler, wants).close()

    places = AddressMap.of_folders if live else AddressMap.between
    return partial(pipeline.open_and_wanted, path, crawler, wants, places, live is not None)


def since(baseline: Path, site: Site, verdict: Verdict, wants: Intent) -> Verdict:
    """A verdict that knows an earlier audit: only new findings fail, and wanted pages that are lost since then."""
    from indrel import pipeline
    from indrel.ask.compare import lost_since
    from indrel.ask.pairing import apart, known_of
    from indrel.decide.site import kept_intent

    earlier, old = pipeline.examine(baseline, [c.token for c in site.crawlers], wants)
    try:
        require_read(earlier)
        new, _ = apart(old.findings, verdict.findings)
        new, _ = known_of(earlier, new, lambda url: url)
        lost = lost_since(earlier, site)
        started = str(earlier.meta.get("started") or "")
        added = added_since(kept_intent(earlier.snapshot), site.intent)
    finally:
        earlier.close()
    notes = (*added, *verdict.notes)
    return replace(
        verdict, new=frozenset(new), lost=tuple(lost), baseline=str(baseline), baseline_started=started, notes=notes
    )


def added_since(old: Intent, new: Intent) -> list[str]:
    """Entries of the intent file that the baseline's did not have: in a pull request they may come from a stranger."""
    accepts = {(a.check, a.match.text if a.match else "") for a in old.accepted}
    wants = {w.text for w in old.wants}
    fresh = [
        (a.line, f"accepts {a.check} {a.match.text if a.match else 'everywhere'}")
        for a in new.accepted
        if (a.check, a.match.text if a.match else "") not in accepts
    ]
    fresh += [(w.line, f"wants {w.text}") for w in new.wants if w.text not in wants]
    if not fresh:
        return []
    listed = "; ".join(f"line {line} {what}" for line, what in sorted(fresh)[:MOST_ADDED])
    more = f"; and {len(fresh) - MOST_ADDED} more" if len(fresh) > MOST_ADDED else ""
    return [f"{new.where} has entries that are new since the baseline: {listed}{more}"]


def finish(
    site: Site,
    verdict: Verdict,
    *,
    output: list[Path] | None,
    json: bool,
    fail_on: str,
    everything: bool,
    quiet: bool,
    cut: IndrelError | None,
    tries: Sequence[str] = (),
    replaces: Path | None = None,
) -> None:
    """Print and write the verdict, then exit as the contract says.

    `replaces` is the baseline that this audit takes the place of, if nothing failed.
    """
    from indrel import reports
    from indrel.decide.flow import link_flow
    from indrel.decide.matrix import site_matrix
    from indrel.decide.sitemaps import sitemap_states
    from indrel.reports import json_doc

    reports.write(output or [], verdict, site)  # first: anyone who reads standard output may stop reading
    if json:
        write_whole(json_doc.render(verdict, site))
    else:
        if everything:
            terminal().verdict(
                verdict, site.base_origin, True, site_matrix(site), link_flow(site), sitemap_states(site)
            )
        else:
            terminal().verdict(verdict, site.base_origin)
    if output:
        say(f"written: {files(output)}", quiet)
    code = exit_code(verdict, fail_on, cut)
    if replaces is None or code:
        stays = f"; {replaces} stays the baseline" if replaces else ""
        say(f"snapshot saved: {site.snapshot.path}{stays}", quiet and replaces is None)
    else:
        say(f"snapshot saved: {replaces}", quiet)
    worst = _worst_path(verdict, site)
    for number, command in enumerate([f"indrel explain {shlex.quote(worst)}", *tries]):
        say(("     " if number else "try: ") + command, quiet)
    site.close()
    if replaces is not None and not code:
        site.snapshot.path.replace(replaces)
    if cut is not None:
        say(f"indrel: {cut}")
    raise typer.Exit(code)


def exit_code(verdict: Verdict, fail_on: str, cut: IndrelError | None) -> int:
    """The worst that applies: interrupted, incomplete or crashed, findings."""
    from indrel.core.model import Severity

    if cut is not None:
        return cut.exit_code
    if verdict.crashed:
        return 3
    if fail_on != "never" and verdict.at_or_above(Severity[fail_on.upper()]):
        return 1
    return 0


def _worst_path(verdict: Verdict, site: Site) -> str:
    from indrel.reports.terminal import short

    here = site.base_origin + "/"
    pages = (f.url for f in verdict.findings if f.url.startswith(here) and "robots.txt" not in f.url)
    return short(next(pages, here), site.base_origin)
