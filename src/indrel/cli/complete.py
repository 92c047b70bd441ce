"""What a shell may complete: snapshots, checks, crawlers, states, wants, kinds, sections."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

FOLDER = Path("indrel-runs")


def _beginning(words: Callable[[], Iterable[str]]) -> Callable[[str], list[str]]:
    """A completion from all words there are; whatever goes wrong, the shell gets nothing."""

    def complete(incomplete: str) -> list[str]:
        try:
            return [word for word in words() if word.startswith(incomplete)]
        except Exception:
            return []

    return complete


def _snapshots() -> Iterator[str]:
    yield from sorted((str(p) for p in FOLDER.glob("*.indrel")), reverse=True)
    yield from sorted(str(p) for p in Path().glob("*.indrel"))


def _checks() -> Iterable[str]:
    from indrel.checks import checks

    return checks()


def _crawlers() -> Iterator[str]:
    from indrel.core import crawlers

    yield from ("search", "ads", "ai", "*")
    yield from (one.name for one in crawlers.table().values())


def _states() -> Iterable[str]:
    from indrel.core.model import State

    return [s.value for s in State]


def _classes() -> Iterable[str]:
    from indrel.core.model import CheckClass

    return [c.value for c in CheckClass]


def _wants() -> Iterable[str]:
    from indrel.core.model import Want

    return [w.value for w in Want]


def _kinds() -> Iterable[str]:
    from indrel.decide.kinds import RULES

    return dict.fromkeys(rule.kind for rule in RULES)


def _sections() -> Iterable[str]:
    from indrel import pipeline
    from indrel.decide.place import section_states

    site = pipeline.open_site(pipeline.newest_snapshot().path)
    try:
        return [name for name, _, _ in section_states(site)]
    finally:
        site.close()


snapshots, checks, crawlers, states, classes, wants, kinds, sections = map(
    _beginning, (_snapshots, _checks, _crawlers, _states, _classes, _wants, _kinds, _sections)
)
