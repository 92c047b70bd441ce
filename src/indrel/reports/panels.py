"""What an audit's figures show: states by section, what the sitemaps lead to, clicks from the home page.

Drawn as bars in the page, and by `figures` as PNG or SVG.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from indrel.ask.history import History
from indrel.core.address import split
from indrel.core.model import State, moment, plural
from indrel.decide.graph import clicks_by_state
from indrel.decide.place import section_states
from indrel.decide.site import Site
from indrel.decide.sitemaps import sitemap_states

ORDER = list(reversed(State))
MOST_BARS = 12
DEEPEST = 10

Counts = Mapping[str, int]
Bars = list[tuple[str, Counts]]


@dataclass(frozen=True)
class Panel:
    """One figure: what it shows, what it says in a sentence, and how it is drawn."""

    name: str
    title: str
    says: str
    bars: Sequence[tuple[str, Counts]]
    upright: bool = False
    totals: bool = True
    """Whether a bar's whole stands beside its name."""

    words: Mapping[str, str] = field(default_factory=dict)
    """What to call a state in the key, where not by its own name."""

    @property
    def most(self) -> int:
        """Addresses of the longest bar."""
        return max(sum(states.values()) for _, states in self.bars)

    @property
    def there(self) -> list[str]:
        """The states that any bar holds."""
        return [s.value for s in ORDER if any(states.get(s) for _, states in self.bars)]

    @property
    def height(self) -> float:
        """Height of the drawing in inches, without title and names of steps."""
        return 2.4 if self.upright else 0.32 * len(self.bars)


def panels(site: Site) -> list[Panel]:
    """The figures that have something to show."""
    return [p for p in (_sections(site), _sitemaps(site), _depth(site)) if p is not None]


def _unlistable(states: Counts) -> int:
    return sum(states.values()) - states.get(State.OPEN, 0)


def _sections(site: Site) -> Panel | None:
    rows = section_states(site)
    if len(rows) < 2:
        return None
    rows.sort(key=lambda row: (-_unlistable(row[1]), -row[2], row[0]))
    worst, states, total = rows[0]
    lost = _unlistable(states)
    says = (
        f"least open is {worst}: {lost:,} of {total:,} {'is' if lost == 1 else 'are'} not"
        if lost
        else "everything is open"
    )
    shown: Bars = [(name, states) for name, states, _ in rows[:MOST_BARS]]
    if len(rows) > MOST_BARS:
        shown.append((f"{len(rows) - MOST_BARS:,} others", _sum(states for _, states, _ in rows[MOST_BARS:])))
    return Panel("sections", "States by section", says, shown)


def _sitemaps(site: Site) -> Panel | None:
    files = [(split(one.url).path, one.states) for one in sitemap_states(site) if one.states]
    if not files:
        return None
    together = _sum(states for _, states in files)
    lost, total = _unlistable(together), sum(together.values())
    says = (
        f"{lost:,} of {plural(total, 'entry', 'entries')} cannot be indexed"
        if lost
        else f"all {total:,} entries are open"
    )
    files.sort(key=lambda pair: -_unlistable(pair[1]))
    shown: Bars = list(files[:MOST_BARS])
    if len(files) > MOST_BARS:
        shown.append((f"{len(files) - MOST_BARS:,} others", _sum(states for _, states in files[MOST_BARS:])))
    return Panel("sitemaps", "Where sitemap entries lead", says, shown)


def _depth(site: Site) -> Panel | None:
    found = clicks_by_state(site)
    steps = [step for step in found if step is not None]
    if not steps:
        return None
    bars: Bars = [(str(n), found.get(n, {})) for n in range(min(max(steps), DEEPEST - 1) + 1)]
    if max(steps) >= DEEPEST:
        bars.append((f"{DEEPEST}+", _sum(found[n] for n in steps if n >= DEEPEST)))
    unreached = found.get(None, {})
    if unreached:
        bars.append(("no links", unreached))
    far = sum(states.get(State.OPEN, 0) for n, states in found.items() if n is not None and n > 3)
    alone = unreached.get(State.OPEN, 0)
    parts = [f"{plural(far, 'open page')} further than 3 clicks"] if far else []
    parts += [f"{plural(alone, 'open page')} not linked"] if alone else []
    return Panel(
        "depth", "Clicks from the home page", "; ".join(parts) or "every open page within 3 clicks", bars, upright=True
    )


def _sum(many: Any) -> Counts:
    found: dict[str, int] = {}
    for states in many:
        for state, count in states.items():
            found[state] = found.get(state, 0) + count
    return found


def history_panel(found: History) -> Panel:
    """The states over time, one bar for audits that say the same, and how many wanted pages were lost."""
    steps = found.steps[-MOST_BARS * 2 :]
    bars = [(moment(run.started), next(reversed(run.states.values()), {})) for run, _, _ in steps]
    lost = [run.headline.lost for run, _, _ in steps]
    says = f"{lost[0]:,} wanted {'page' if lost[0] == 1 else 'pages'} lost at first, {lost[-1]:,} now"
    return Panel("history", "States over time", says, bars)
