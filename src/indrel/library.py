"""Indrel as a library: audits as objects, their rows as pandas frames.

    import indrel

    audit = indrel.audit("build/", base="https://www.sarnfell.example/")
    frame = audit.addresses()
    frame[frame["*"] == "hidden"]

Everything here rests on a snapshot: nothing is fetched but by `audit`, `Audit.recheck`, and where a URL is named for a file. Answers
are typed objects with `as_json()`; `frame(rows)` gives any list in them as a pandas frame.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import ExitStack, closing
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, Unpack

from indrel import pipeline, reports
from indrel.ask.addresses import address_sql
from indrel.ask.against import Against
from indrel.ask.against import against as _against
from indrel.ask.compare import Comparison
from indrel.ask.compare import compare as _compare
from indrel.ask.drafts import headers as _headers_draft
from indrel.ask.drafts import robots as _robots_draft
from indrel.ask.drafts import sitemap as _sitemap_draft
from indrel.ask.explain import explain as _explain
from indrel.ask.explanation import Explanation
from indrel.ask.history import History
from indrel.ask.history import audits as _audits
from indrel.ask.history import history as _history
from indrel.ask.intent import Idle, Shown
from indrel.ask.intent import check as _intent_check
from indrel.ask.intent import draft as _intent_draft
from indrel.ask.intent import show as _intent_show
from indrel.ask.recheck import Again, as_before
from indrel.ask.recheck import recheck as _recheck
from indrel.ask.reconcile.lists import reconcile as _reconcile
from indrel.ask.reconcile.logs import LogRead
from indrel.ask.reconcile.logs import read as _log
from indrel.ask.robots.check import Checked as CheckedRobots
from indrel.ask.robots.check import check as _check_robots
from indrel.ask.robots.impact import Impact
from indrel.ask.robots.impact import impact as _impact
from indrel.ask.robots.loaded import Loaded
from indrel.ask.robots.loaded import load as _load
from indrel.ask.robots.match import match as _match
from indrel.ask.robots.placed import in_place
from indrel.ask.sides import Sides
from indrel.ask.sitemap import CheckedSitemaps
from indrel.ask.sitemap import check as _check_sitemap
from indrel.base.errors import IndrelError
from indrel.base.extras import require
from indrel.base.sqltext import identifier
from indrel.checks import findings_of, verdict_of
from indrel.checks.headline import spoken_of
from indrel.core import crawlers as _crawlers
from indrel.core.crawlers import Crawler
from indrel.core.intent import Intent
from indrel.core.mapping import AddressMap
from indrel.core.model import Cause, Finding, Verdict
from indrel.decide.matrix import site_matrix as _matrix
from indrel.decide.site import Site
from indrel.ledger import Ledger as Ledger
from indrel.ledger.book import Asked
from indrel.ledger.choose import by_harm as _by_harm
from indrel.ledger.choose import from_changes as _from_changes
from indrel.reports.tickets import Ticket
from indrel.reports.tickets import draft as _tickets
from indrel.sources.options import Connect, Gathering, GatherOptions

if TYPE_CHECKING:
    import pandas as pd


class Audit:
    """One snapshot as a set of crawlers sees it. Close it, or use it in a `with` statement."""

    def __init__(self, site: Site, cut_short: IndrelError | None = None) -> None:
        self._site = site
        self._verdict: Verdict | None = None
        self.cut_short = cut_short
        """What ended the gathering early; None if nothing did."""

    def __repr__(self) -> str:
        return f"<Audit {spoken_of(self._site)}, {self.path.name}>"

    def _repr_html_(self) -> str:
        """The first line and the causes, for notebooks; every text is escaped."""
        return self.verdict._repr_html_()

    @property
    def path(self) -> Path:
        """The snapshot's file."""
        return Path(self._site.snapshot.path)

    @property
    def crawlers(self) -> tuple[str, ...]:
        """Tokens of the crawlers whose eyes it is seen with, in lower case."""
        return tuple(c.token for c in self._site.crawlers)

    @property
    def verdict(self) -> Verdict:
        """The whole answer: every check is run when it is first asked for."""
        if self._verdict is None:
            self._verdict = verdict_of(self._site)
        return self._verdict

    @property
    def complete(self) -> bool:
        """Whether the audit read all that it meant to; if not, `verdict.incomplete_because` says why."""
        return self._site.complete

    @property
    def causes(self) -> tuple[Cause, ...]:
        """What one edit each would fix, the worst first; accepted ones are among them (`accepted` says why)."""
        return self.verdict.causes

    # ---------------------------------------------------------------- frames

    def addresses(self) -> pd.DataFrame:
        """Known addresses, one a row, in order.

        Columns: `url`, `kind`, `section`, `want`, `stated` (whether the intent file states the want), one column a
        crawler, named by its token, with the state, `status` (nullable), `media_type`, `folds_into` (the address that
        it gives way to in the end), `listed` (in a sitemap), `followed` and `unfollowed` (pages that link it so), `clicks`
        (from the start page, as the last crawler goes; missing: no links lead there), `by`, `where`, `line`, `text` (the kind,
        place and text of what decides its state first; missing where it is open), `checks` (a tuple of the checks that
        found it).
        """
        require("pandas", "Audit.addresses()")
        site = self._site
        assert self.verdict  # its findings are held as rows
        states = ", ".join(identifier(token) for token in self.crawlers)
        frame: pd.DataFrame = site.con.execute(
            f"""SELECT url, kind, section, want, stated, {states}, status, media_type, folds_into, listed, followed, unfollowed, clicks,
            "by"[1][2] AS "by", "by"[1][3] AS "where", "by"[1][4] AS line, "by"[1][5] AS "text", coalesce(checks, []) AS checks
            FROM ({address_sql(site)})"""
        ).df()
        frame = frame.astype({"clicks": "Int32", "status": "Int16", "line": "Int64"})
        for name in ("kind", "section", "want", *self.crawlers):
            frame[name] = frame[name].astype("category")
        frame["checks"] = [tuple(found) for found in frame["checks"]]
        return frame

    def findings(self) -> pd.DataFrame:
        """Findings, one a row, the worst causes first.

        Columns: `severity`, `cls` (its class), `check`, `cause`, `section`, `url`, `crawlers` (a tuple), `message`, `kind`,
        `where`, `line` (nullable, from 1), `text` (those four of the first evidence: what does it), `also` (a tuple of
        other addresses), `accepted` (the reason, or missing).
        """
        require("pandas", "Audit.findings()")
        import pandas as pd

        rows = [_row(f) for f in self.verdict.findings]
        found = pd.DataFrame.from_records(rows, columns=_FINDING_COLUMNS)
        found["line"] = found["line"].astype("Int64")
        return found

    # ---------------------------------------------------------------- questions

    def explain(self, url: str) -> Explanation:
        """One address, or path on the site: its state per crawler, and each step that led to it."""
        address = pipeline.page_address(url, self._site)
        return _explain(self._site, address, findings_of(self._site, address))

    def compare(self, earlier: Audit, hosts: Mapping[str, str] | None = None) -> Comparison:
        """What changed since an earlier audit; `hosts` names its hosts that stand for this one's."""
        return _compare(earlier._site, self._site, AddressMap.between(earlier._site.base, self._site.base, hosts))

    def against(self, live: Audit) -> Against:
        """This audit of a copy (a staging host, the next build) compared with one of the live site: is it closed, where does it
        differ. Nothing is requested: a copy that was read with a login counts as what was read with it."""
        return _against(self._site, live._site)

    def recheck(
        self, *urls: str, checks: Sequence[str] = (), causes: Sequence[str] = (), snapshot: str | Path | None = None,
        **options: Unpack[Gathering],
    ) -> Again:  # fmt: skip
        """Request the pages of findings again (of all, if none are named by URL, check or cause), and keep the responses in
        `snapshot`. The rate is that of the audit, unless another is given. Raises UsageError where there is nothing to request."""
        site = self._site
        wanted = _options({**as_before(site), **options}, site.crawlers, site.intent)
        return _recheck(
            self.path, Path(snapshot) if snapshot else None, site.intent, lambda _: wanted, urls, checks, causes
        )

    # ---------------------------------------------------------------- robots.txt, sitemaps, outside lists

    def match(self, *urls: str) -> pd.DataFrame:
        """The rule that decides each URL or path, for each crawler. Columns: `url`, `crawler`, `allowed`, `rule`, `line`, `group`."""
        addresses = [pipeline.page_address(url, self._site) for url in urls]
        rows = [one for row in _match(self._loaded(None), addresses, self._site.crawlers) for one in row]
        return frame(rows, ["url", "crawler", "allowed", "rule", "line", "group"])

    def matrix(self) -> pd.DataFrame:
        """Who may read what: one row per group of crawlers that have the same rules and purpose."""
        return frame(_matrix(self._site))

    def check_robots(self, file: str | Path | None = None) -> CheckedRobots:
        """The checks of a robots.txt (a file or URL; else the site's own), against the URLs of this audit."""
        return _check_robots(self._loaded(file), self._site.crawlers, self.path)

    def impact(self, new: str | Path, old: str | Path | None = None) -> Impact:
        """Which known URLs change state if the robots.txt `new` (a file or URL) goes live in place of `old` (the site's own)."""
        given = [self._loaded(file) if file else None for file in (old, new)]
        with ExitStack() as opened:
            sites = [opened.enter_context(closing(in_place(self.path, self._site.crawlers, one))) for one in given]
            return _impact(*sites)

    def check_sitemap(self, file: str | Path) -> CheckedSitemaps:
        """The checks of a sitemap (a file or URL), and of its entries against this audit."""
        return _check_sitemap(str(file), self._site.crawlers, GatherOptions(crawlers=()), self.path, self._site.intent)

    def reconcile(self, table: str | Path, *, indexed: bool | None = None) -> pd.DataFrame:
        """An engine's export compared with the audit, one row per URL, in order of what to do. Columns: `url`, `says`, `listed`,
        `state`, `want`, `do`, `since`, `reason`. Raises InputError for a table that is not understood."""
        names = ["url", "says", "listed", "state", "want", "do", "since", "reason"]
        return frame(_reconcile(self._site, Path(table), None, indexed).table, names)

    def log(self, *files: str | Path) -> LogRead:
        """A server's logs compared with the audit: what crawlers fetched, what of it is blocked, what they never fetched."""
        return _log(self._site, [Path(file) for file in files])

    # ---------------------------------------------------------------- drafts and reports

    def draft_robots(self, with_headers: bool = False, host: str | None = None) -> _robots_draft.RobotsDraft:
        """A robots.txt that blocks no wanted page, tried on every known URL; `host` is one of the site's hosts."""
        return _robots_draft.draft(self._site, with_headers, _robots_draft.origin_named(self._site, host))

    def draft_sitemap(self, gzip: bool = False, split: bool = False) -> _sitemap_draft.SitemapDraft:
        """Sitemap files of the open, wanted pages, and what was left out."""
        return _sitemap_draft.draft(self._site, gzip, split)

    def draft_headers(self) -> _headers_draft.HeadersDraft:
        """Configuration for nginx and Apache httpd that hides what the intent file wants hidden."""
        return _headers_draft.draft(self._site)

    def draft_intent(self) -> str:
        """An intent file to begin with, from what the site implies."""
        return _intent_draft(self._site)

    def show_intent(self, url: str) -> Shown:
        """What is wanted of a URL, and the entry of the intent file that says so."""
        return _intent_show(self._site.intent, pipeline.page_address(url, self._site), self._site)

    def check_intent(self) -> list[Idle]:
        """Entries of the intent file that do nothing or contradict each other."""
        return _intent_check(self._site, self.verdict.findings)

    def to_request(self, earlier: Audit) -> list[Asked]:
        """URLs that got better since an earlier audit, for a ledger's `request`: the most harmful first."""
        changes = Sides(earlier._site, self._site, AddressMap.between(earlier._site.base, self._site.base)).states
        return _by_harm(self._site, _from_changes(changes))

    def tickets(self) -> list[Ticket]:
        """One ticket for each cause that is more than a note."""
        return _tickets(self.verdict, self._site)

    def _loaded(self, file: str | Path | None) -> Loaded:
        return _load(str(file or self.path), GatherOptions(crawlers=()))

    def write(self, *files: str | Path) -> None:
        """Write reports; the endings choose the formats. All of them, or none."""
        paths = [Path(f) for f in files]
        reports.check_endings(paths)
        reports.write(paths, self.verdict, self._site)

    def close(self) -> None:
        self._site.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


_FINDING_COLUMNS = [
    "severity", "cls", "check", "cause", "section", "url", "crawlers", "message", "kind", "where", "line", "text", "also",
    "accepted",
]  # fmt: skip


def _row(finding: Finding) -> tuple[object, ...]:
    first = finding.evidence[0]
    accepted = finding.accepted.because or "accepted" if finding.accepted else None
    return (
        finding.severity.word, finding.cls.value, finding.check, finding.cause, finding.section, finding.url, finding.crawlers,
        finding.message, first.kind, first.where, first.line, first.text, finding.also, accepted,
    )  # fmt: skip


def audit(
    source: str | Path | Sequence[str | Path],
    *,
    snapshot: str | Path | None = None,
    intent: str | Path | None = None,
    crawlers: Sequence[str] = (),
    **options: Unpack[Gathering],
) -> Audit:
    """Read a site (an address), a folder of built files, WARC files, or a snapshot, and give the audit of it.

    The facts are stored in `snapshot`, or in `indrel-runs/` under a name of the moment. `crawlers` are tokens or families.
    `options` are those of `indrel audit`, under the names of `indrel.sources.options.Gathering`: `rate` is requests per second
    per host (0: no limit), `limit` pages, `timeout` seconds, `render_memory` bytes; `connect` gives hosts the
    `[http://]ADDRESS:PORT` to connect to; `headers` go only to the site's hosts. No intent file is read but the one named.
    What cuts the gathering short is in `cut_short`, next to all that was gathered. Raises UsageError for what cannot be read at
    all, TypeError for an option that there is not.
    """
    wants = _intent(intent)
    sources = [str(source)] if isinstance(source, (str, Path)) else [str(one) for one in source]
    path, cut = Path(sources[0]), None
    if pipeline.source_kind(sources) != "snapshot":
        gathering = _options(options, _crawlers.resolve(crawlers or wants.crawlers or _crawlers.DEFAULT), wants)
        gathered = pipeline.gather(sources, gathering, Path(snapshot) if snapshot else None)
        path, cut = gathered.snapshot, gathered.cut_short
        pipeline.keep_intent(path, wants)
    return Audit(pipeline.open_site(path, crawlers or None, wants), cut)


def open_snapshot(
    path: str | Path | None = None, *, intent: str | Path | None = None, crawlers: Sequence[str] = ()
) -> Audit:
    """An audit made earlier, from its snapshot (without a name: the newest in `indrel-runs/`). Nothing is fetched.

    Without `intent` and `crawlers`, the ones that it was made with hold. Raises SnapshotError for a file that is no snapshot.
    """
    file = Path(path) if path else pipeline.newest_snapshot().path
    return Audit(pipeline.open_site(file, crawlers or None, _intent(intent)))


def history(host: str | None = None, folder: str | Path | None = None) -> History:
    """All audits of a site in a folder (`indrel-runs/`): states over time, and when each cause appeared and disappeared."""
    return _history(*_audits(pipeline.kept_in(folder), host, pipeline.open_site))


def frame(rows: Iterable[object], columns: Sequence[str] | None = None) -> pd.DataFrame:
    """A list of an answer (causes, changes, audits, requests ...) as a pandas frame, a column for each key of its JSON."""
    require("pandas", "a frame")
    import pandas as pd

    records: list[Any] = [one.as_json() if hasattr(one, "as_json") else one for one in rows]
    return pd.DataFrame.from_records(records, columns=list(columns) if columns else None)


def _options(given: Gathering, crawlers: Sequence[Crawler], wants: Intent) -> GatherOptions:
    """Keywords as the sources read them. Raises TypeError for one that there is not."""
    if unknown := set(given) - set(Gathering.__annotations__):
        raise TypeError(f"there is no option {sorted(unknown)[0]!r}")
    read: dict[str, Any] = {**given}
    read["connect"] = _connect(given.get("connect", {}))
    read["headers"] = tuple(given.get("headers", {}).items())
    read["also"] = tuple(given.get("also", ()))
    return GatherOptions(crawlers=tuple(crawlers), hosts=tuple(wants.all_hosts), user_parts=wants.user_written, **read)


def _intent(file: str | Path | None) -> Intent:
    return pipeline.load_intent(Path(file)) if file else Intent()


def _connect(places: Mapping[str, str]) -> tuple[Connect, ...]:
    found = []
    for host, place in places.items():
        address, _, port = place.removeprefix("http://").rpartition(":")
        found.append(Connect(host.lower(), address, int(port), place.startswith("http://")))
    return tuple(found)
