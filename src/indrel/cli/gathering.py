"""The options of gathering as parameters of commands, made from their one definition."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from dataclasses import fields
from functools import cache, wraps
from operator import not_
from typing import TYPE_CHECKING, Annotated, Any, get_args, get_type_hints

import typer

from indrel.cli import options as opt
from indrel.cli.console import say

if TYPE_CHECKING:
    from indrel.core.intent import Intent
    from indrel.sources.options import GatherOptions

Given = dict[str, Any]
"""What was given on the command line, by the option's name."""

NONE_GIVEN: Given = {}

_READ: dict[str, Callable[[Any], Any]] = {
    "connect": opt.parse_connect,
    "headers": opt.parse_headers,
    "also": lambda files: opt.read_addresses(files, paths=True),
    "render": opt.render_word,
    "render_memory": lambda text: opt.parse_size(text, "--render-memory"),
    "sandbox": not_,
}
"""What sources read instead of what a user writes."""


@cache
def _parameters() -> dict[str, inspect.Parameter]:
    """A parameter for each option, in order."""
    from indrel.sources.options import Gathering, GatherOptions

    defaults = {one.name: one.default for one in fields(GatherOptions)}
    found = {}
    for name, hint in get_type_hints(Gathering, include_extras=True).items():
        own, option = get_args(hint)
        kind, default = (option.written, option.default) if option.written else (own, defaults[name])
        shown = default not in (None, False, True)
        written = typer.Option(
            *option.flags,
            metavar=option.metavar,
            help=option.help,
            min=option.least,
            max=option.most,
            show_default=shown,
        )
        found[name] = inspect.Parameter(
            name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=Annotated[kind, written]
        )
    return found


def gathers(*names: str) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command these options, or all: they take the place of its parameter `given`, which holds what was given."""

    def decorate(command: Callable[..., None]) -> Callable[..., None]:
        chosen = [one for name, one in _parameters().items() if not names or name in names]
        parameters: list[inspect.Parameter] = []
        for one in inspect.signature(command, eval_str=True).parameters.values():
            own = one.replace(kind=inspect.Parameter.KEYWORD_ONLY)
            parameters += chosen if one.name == "given" else [own]

        @wraps(command)
        def run(**values: Any) -> None:
            command(given={one.name: values.pop(one.name) for one in chosen}, **values)

        run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        run.__annotations__ = {one.name: one.annotation for one in parameters}
        return run

    return decorate


def pace_before(
    meta: Mapping[str, Any], connect: list[str] | None, headers: list[str] | None, rate: float | None = None
) -> float:
    """The rate of the audit that is asked about, unless another is given. Where it connected and which headers it sent is only shown,
    never used: a snapshot may come from a stranger."""
    from indrel.ask.recheck import rate_before
    from indrel.sources.options import GatherOptions

    asked = meta.get("asked") or {}
    again = [f"--connect {one}" for one in asked.get("connect", ()) if not connect]
    again += [f"--header '{name}: ...'" for name in asked.get("headers", ()) if not headers]
    if again:
        say(f"the audit was made with {' '.join(again)}: give that again if it is needed")
    usual = GatherOptions.rate if rate is None else rate
    return rate_before(meta) if usual == GatherOptions.rate else usual


def gather_options(given: Given, crawler: list[str] | None, intent: Intent, **more: Any) -> GatherOptions:
    """Options of the command line as the sources read them; `more` go in as they are."""
    from indrel.core import crawlers
    from indrel.sources.options import GatherOptions

    read = {name: _READ[name](value) if name in _READ else value for name, value in given.items()}
    return GatherOptions(
        crawlers=crawlers.resolve(crawler or intent.crawlers or crawlers.DEFAULT),
        hosts=tuple(dict.fromkeys(intent.all_hosts)),
        user_parts=intent.user_written,
        **{**read, **more},
    )
