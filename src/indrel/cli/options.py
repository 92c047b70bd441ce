"""Options that several commands share, defined once."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from indrel.base.errors import UsageError
from indrel.cli import complete

if TYPE_CHECKING:
    from indrel.sources.options import Connect

SnapshotArgument = Annotated[
    Path | None,
    typer.Argument(
        metavar="SNAPSHOT",
        help="A snapshot.",
        show_default="the newest in indrel-runs/",
        autocompletion=complete.snapshots,
    ),
]
FromOption = Annotated[
    Path | None,
    typer.Option(
        "--from",
        metavar="SNAPSHOT",
        help="The snapshot to query.",
        show_default="the newest in indrel-runs/",
        autocompletion=complete.snapshots,
    ),
]
CrawlerOption = Annotated[
    list[str] | None,
    typer.Option(
        "--crawler",
        metavar="NAME",
        help="A user agent token, or search, ads, ai ... Repeatable.",
        autocompletion=complete.crawlers,
    ),
]
IntentOption = Annotated[
    Path | None,
    typer.Option("--intent", metavar="FILE", help="The file that states what you want.", show_default="./indrel.toml"),
]
SnapshotOption = Annotated[
    Path | None,
    typer.Option(
        "--save",
        "--snapshot",
        metavar="FILE",
        help="Where to save the snapshot.",
        show_default="indrel-runs/HOST-TIME.indrel",
    ),
]
OutputOption = Annotated[
    list[Path] | None,
    typer.Option(
        "-o",
        "--output",
        metavar="FILE",
        help="Write a report (.html .json .csv .xlsx .md .sarif .png .svg). Repeatable.",
    ),
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print the result as JSON.")]
FailOnOption = Annotated[
    str,
    typer.Option(
        "--fail-on", metavar="SEVERITY", help="Exit with 1 at or above this severity: stop fix ask note never."
    ),
]
TimeoutOption = Annotated[
    float, typer.Option("--timeout", min=0.1, metavar="S", help="Seconds to wait for a response.")
]
ConnectOption = Annotated[
    list[str] | None,
    typer.Option(
        "--connect",
        metavar="HOST=[http://]ADDRESS:PORT",
        help="Connect to this address for that host; http:// if the server there speaks plain HTTP. Repeatable.",
    ),
]
BaselineOption = Annotated[
    Path | None,
    typer.Option(
        "--baseline",
        metavar="SNAPSHOT",
        help="Fail only on what is new since this audit: findings, and wanted pages that are lost.",
        autocompletion=complete.snapshots,
    ),
]
AgainstOption = Annotated[
    str | None,
    typer.Option(
        "--against",
        metavar="SNAPSHOT_OR_URL",
        help="SOURCE is a copy of this site: show whether it is closed, and where its directives differ.",
        autocompletion=complete.snapshots,
    ),
]
AllOption = Annotated[bool, typer.Option("--all", help="Show every cause and every table.")]
ResumeOption = Annotated[bool, typer.Option("--resume", help="Continue an audit that was interrupted.")]
QuietOption = Annotated[bool, typer.Option("-q", "--quiet", help="Print no progress and no hints.")]
VerboseOption = Annotated[bool, typer.Option("-v", "--verbose", help="Also print log messages, and show every cause.")]

FAIL_WORDS = ("stop", "fix", "ask", "note", "never")


def fail_word(word: str) -> str:
    """A `--fail-on` value; raises UsageError for any other word."""
    if word not in FAIL_WORDS:
        raise UsageError(f"--fail-on {word}: choose one of {' '.join(FAIL_WORDS)}")
    return word


def check_ids(ids: Iterable[str] | None) -> list[str]:
    """Ids of checks; raises UsageError for an unknown one, with the nearest known one."""
    from indrel.checks import checks
    from indrel.core.page.tokens import CHOICE, nearest

    known = checks()
    for one in ids or ():
        if one not in known:
            near = nearest(one, known, CHOICE)
            raise UsageError(
                f"unknown check `{one}`." + (f" Did you mean `{near}`?" if near else " All of them: indrel checks")
            )
    return list(ids or ())


def render_word(word: str | None) -> str | None:
    """A `--render` value; raises UsageError for any other word."""
    if word not in (None, "sample", "all"):
        raise UsageError(f"--render={word}: write --render (a sample), --render=sample or --render=all")
    return word


def doubt_crawlers(names: list[str] | None, quiet: bool) -> None:
    """Warn about a token that is unknown but close to a known one; it is used anyway."""
    from indrel.cli.console import say
    from indrel.core.crawlers import STAR, table
    from indrel.core.page.tokens import nearest

    known = table()
    purposes = {one.purpose for one in known.values()} | {"ai", STAR}
    for name in names or ():
        word = name.strip().lower()
        near = nearest(word, known) if word not in known and word not in purposes else None
        if near:
            say(f"unknown crawler `{name}`. Did you mean `{near}`? (all of them: indrel crawlers)", quiet)


def parse_connect(values: list[str] | None) -> tuple[Connect, ...]:
    from indrel.core.address import host_name
    from indrel.sources.options import Connect

    found = []
    for value in values or ():
        host, equals, place = value.partition("=")
        plain = place.startswith("http://")
        address, colon, port = place.removeprefix("http://").removesuffix("/").rpartition(":")
        if not (
            host and equals and address and "/" not in address and colon and port.isdigit() and 0 < int(port) < 65_536
        ):
            raise UsageError(
                f"--connect {value}: write HOST=ADDRESS:PORT, such as www.sarnfell.example=127.0.0.1:8443, or "
                "HOST=http://ADDRESS:PORT if the server there speaks plain HTTP"
            )
        found.append(Connect(host_name(host), address.strip(), int(port), plain))
    return tuple(found)


def parse_size(text: str, option: str) -> int:
    """A size such as 1.5GB, 800 MB or 1GiB, in bytes."""
    units = {"": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30}
    found = re.fullmatch(r"\s*([0-9]{1,12}(?:\.[0-9]{1,6})?)\s*([kmg]?i?b?)\s*", text, re.IGNORECASE)
    unit = (found[2].lower() if found else "").removesuffix("b") + "b" if found and found[2] else ""
    if not found or unit not in units or not float(found[1]) * units[unit]:
        raise UsageError(f"{option} {text}: write a size such as 1.5GB or 800MB")
    return int(float(found[1]) * units[unit])


def parse_headers(values: list[str] | None) -> tuple[tuple[str, str], ...]:
    found = []
    for value in values or ():
        name, colon, text = value.partition(":")
        if not colon or not name.strip() or not name.strip().isascii() or any(c in value for c in "\r\n\0"):
            raise UsageError("--header: write 'Name: value', as 'Authorization: Basic ...'")
        found.append((name.strip(), text.strip()))
    return tuple(found)


def read_addresses(files: list[Path] | None, paths: bool = False) -> tuple[str, ...]:
    """The URLs of files, and paths if they are accepted. Raises InputError with file and line for anything else."""
    from indrel.sources.url_file import read_urls

    return tuple(dict.fromkeys(url for file in files or () for url in read_urls(file, paths)))
