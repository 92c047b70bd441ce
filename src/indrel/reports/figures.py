"""The audit in three figures: states by section, what the sitemaps lead to, clicks from the start page.

Drawn by Matplotlib, into one PNG or SVG, or each into the HTML page, where style sheet names take the place of colours.
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import matplotlib
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from indrel.core.address import split
from indrel.core.model import State, Verdict, plural
from indrel.decide.graph import clicks_by_state
from indrel.decide.place import section_states
from indrel.decide.site import Site
from indrel.decide.sitemaps import sitemap_states
from indrel.plain import clip, safe
from indrel.reports.terminal import host_of

if TYPE_CHECKING:
    from indrel.history import History

COLOURS = {
    State.OPEN: "#2f855a", State.HIDDEN: "#2b7a99", State.FOLDED: "#5a67b8", State.BROKEN: "#b83232", State.GONE: "#d0605e",
    State.LOCKED: "#b7862a", State.UNREAD: "#9aa3a6", State.BARRED: "#8a3f8f",
}  # fmt: skip
"""As in the page's style sheet."""

_INK, _SOFT, _LINE, _PAPER = "#1f2a2e", "#5d6a6e", "#d9d5cb", "#fbfaf7"
_NAMES = {_INK: "--ink", _PAPER: "--paper", _SOFT: "--soft", _LINE: "--line"} | {
    hue: f"--{state.value}" for state, hue in COLOURS.items()
}
_ORDER = list(reversed(State))
MOST_BARS = 12
DEEPEST = 10
_SETTINGS: dict[Any, Any] = {
    "svg.hashsalt": "indrel", "text.parse_math": False, "font.size": 9.5, "text.color": _INK, "axes.labelcolor": _SOFT,
    "xtick.color": _SOFT, "ytick.color": _INK, "axes.edgecolor": _LINE, "font.family": ["DejaVu Sans"],
}  # fmt: skip

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

    @property
    def height(self) -> float:
        """Of the drawing, in inches; title and names of steps come on top."""
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
    says = f"most that is not open in {worst}, {lost:,} of {total:,}" if lost else "everything is open"
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
        f"{lost:,} of {plural(total, 'entry', 'entries')} cannot be listed"
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
        bars.append(("no\nlinks", unreached))
    far = sum(states.get(State.OPEN, 0) for n, states in found.items() if n is not None and n > 3)
    alone = unreached.get(State.OPEN, 0)
    parts = [f"{plural(far, 'open page')} further than 3 clicks"] if far else []
    parts += [f"{plural(alone, 'open page')} that no link leads to"] if alone else []
    return Panel(
        "depth", "Clicks from the start page", "; ".join(parts) or "every open page within 3 clicks", bars, upright=True
    )


def _sum(many: Any) -> Counts:
    found: dict[str, int] = {}
    for states in many:
        for state, count in states.items():
            found[state] = found.get(state, 0) + count
    return found


# ---------------------------------------------------------------- drawing


def _draw(axes: Axes, panel: Panel) -> None:
    axes.set_title(f"{panel.title}: {safe(panel.says)}", loc="left", fontsize=10.5, fontweight="bold", pad=8)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)
    axes.set_facecolor("none")
    if panel.upright:
        _columns(axes, panel)
    else:
        _rows(axes, panel)


def _rows(axes: Axes, panel: Panel) -> None:
    """One bar a row, each as long as the others: the parts of a whole. The count stands beside the name."""
    places = range(len(panel.bars))
    left = [0.0] * len(panel.bars)
    totals = [sum(states.values()) or 1 for _, states in panel.bars]
    for state in _ORDER:
        counts = [states.get(state, 0) for _, states in panel.bars]
        shares = [count / total for count, total in zip(counts, totals, strict=True)]
        axes.barh(places, shares, left=left, color=COLOURS[state], height=0.72, linewidth=0)
        for place, (count, share, start) in enumerate(zip(counts, shares, left, strict=True)):
            if share >= 0.05:
                axes.text(start + share / 2, place, f"{count:,}", ha="center", va="center", color=_PAPER, fontsize=8.5)
        left = [start + share for start, share in zip(left, shares, strict=True)]
    axes.set_yticks(places, [f"{clip(safe(name), 34)}  {sum(states.values()):,}" for name, states in panel.bars])
    axes.set_ylim(len(panel.bars) - 0.5, -0.5)
    axes.set_xlim(0, 1)
    axes.set_xticks([])
    axes.spines["bottom"].set_visible(False)


def _columns(axes: Axes, panel: Panel) -> None:
    """One column a step, as high as it has addresses."""
    places = range(len(panel.bars))
    base = [0] * len(panel.bars)
    for state in _ORDER:
        counts = [states.get(state, 0) for _, states in panel.bars]
        axes.bar(places, counts, bottom=base, color=COLOURS[state], width=0.72, linewidth=0)
        base = [start + count for start, count in zip(base, counts, strict=True)]
    for place, total in enumerate(base):
        axes.text(place, total, f"{total:,}", ha="center", va="bottom", color=_SOFT, fontsize=8.5)
    axes.set_xticks(places, [name for name, _ in panel.bars])
    axes.set_yticks([])
    axes.margins(y=0.12)
    axes.set_xlim(-0.6, max(len(panel.bars), 8) - 0.4)


def _legend(figure: Figure, shown: Sequence[Panel]) -> None:
    there = {state for panel in shown for _, states in panel.bars for state, count in states.items() if count}
    marks = [matplotlib.patches.Patch(color=COLOURS[s], label=s.value) for s in _ORDER if s in there]
    figure.legend(
        handles=marks,
        loc="outside lower left",
        ncols=len(marks),
        frameon=False,
        fontsize=9,
        handlelength=0.9,
        handleheight=0.9,
    )


def _figure(shown: Sequence[Panel], title: str = "") -> Figure:
    figure = Figure(figsize=(10, sum(p.height + 0.55 for p in shown) + (0.9 if title else 0.4)))
    figure.set_layout_engine("constrained", h_pad=0.12)
    grid = figure.subplots(len(shown), 1, squeeze=False, height_ratios=[p.height for p in shown])
    for axes, panel in zip(grid[:, 0], shown, strict=True):
        _draw(axes, panel)
    if title:
        figure.suptitle(safe(title), x=0.01, ha="left", fontsize=13, fontweight="bold")
    _legend(figure, shown)
    return figure


def _saved(make: Callable[[], Figure], **how: Any) -> bytes:
    out = io.BytesIO()
    with matplotlib.rc_context({**_SETTINGS, **how.pop("settings", {})}), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")  # a site's letters may be in no font here
        make().savefig(out, **how)
    return out.getvalue()


def _all(verdict: Verdict, site: Site) -> Callable[[], Figure]:
    shown = panels(site)
    if not shown:  # too little for parts: the whole in one bar
        states = verdict.states.get(verdict.crawlers[-1], {})
        shown = [
            Panel("all", "States", plural(verdict.addresses, "address", "addresses"), [(host_of(verdict), states)])
        ]
    return lambda: _figure(shown, f"{host_of(verdict)}, {str(verdict.source['started'])[:10]}")


def render_png(verdict: Verdict, site: Site) -> bytes:
    """All figures, one under the other."""
    return _saved(_all(verdict, site), format="png", dpi=110, facecolor=_PAPER, metadata={"Software": None})


def render_svg(verdict: Verdict, site: Site) -> bytes:
    """All figures, one under the other; letters are drawn, so that they look the same everywhere."""
    return _saved(_all(verdict, site), format="svg", facecolor=_PAPER, metadata={"Date": None, "Creator": None})


def history_figure(found: History, form: str) -> bytes:
    """The states over time, one bar an audit, and how many wanted pages were lost, as PNG or SVG."""
    runs = found.runs[-MOST_BARS * 2 :]
    bars = [(run.started[:16].replace("T", " "), next(reversed(run.states.values()), {})) for run in runs]
    lost = [run.headline.lost for run in runs]
    says = f"{lost[0]:,} wanted {'page' if lost[0] == 1 else 'pages'} lost at first, {lost[-1]:,} now"
    panel = Panel("history", "States over time", says, bars)
    metadata = {"Software": None} if form == "png" else {"Date": None, "Creator": None}
    how = {"dpi": 110} if form == "png" else {}
    return _saved(
        lambda: _figure([panel], f"{found.site}, {len(found.runs)} audits"),
        format=form,
        facecolor=_PAPER,
        metadata=metadata,
        **how,
    )


def inline(panel: Panel) -> str:
    """One figure as an SVG element for a page: texts are texts, colours are those of its style sheet."""
    drawn = _saved(
        lambda: _figure([panel]), format="svg", transparent=True, metadata={"Date": None, "Creator": None},
        settings={"svg.fonttype": "none", "svg.id": panel.name, "svg.hashsalt": panel.name},
    ).decode()  # fmt: skip
    svg = drawn[drawn.index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    for hue, name in _NAMES.items():
        svg = svg.replace(hue, f"var({name})")
    return svg
