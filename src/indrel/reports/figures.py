"""The figures as one PNG or SVG, drawn by Matplotlib (the extra `figures`)."""

from __future__ import annotations

import io
import warnings
from collections.abc import Callable, Sequence
from textwrap import fill
from typing import TYPE_CHECKING, Any

import matplotlib
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from indrel.base.plain import clip, safe
from indrel.core.model import State, Verdict, plural
from indrel.decide.site import Site
from indrel.reports.panels import ORDER, Panel, history_panel, panels
from indrel.reports.terminal import host_of

if TYPE_CHECKING:
    from indrel.ask.history import History
    from indrel.decide.matrix import MatrixRow

COLOURS = {
    State.OPEN: "#2f855a", State.HIDDEN: "#2b7a99", State.FOLDED: "#5a67b8", State.BROKEN: "#b83232", State.GONE: "#d0605e",
    State.LOCKED: "#b7862a", State.UNREAD: "#9aa3a6", State.BARRED: "#8a3f8f",
}  # fmt: skip
"""As in the page's style sheet."""

_INK, _SOFT, _LINE, _PAPER = "#1f2a2e", "#5d6a6e", "#d9d5cb", "#fbfaf7"
_SETTINGS: dict[Any, Any] = {
    "svg.hashsalt": "indrel", "text.parse_math": False, "font.size": 9.5, "text.color": _INK, "axes.labelcolor": _SOFT,
    "xtick.color": _SOFT, "ytick.color": _INK, "axes.edgecolor": _LINE, "font.family": ["DejaVu Sans"],
}  # fmt: skip

TITLE = 88
"""Characters of a title per line: a longer line is cut by the figure's edge."""

# ---------------------------------------------------------------- drawing


def _draw(axes: Axes, panel: Panel) -> None:
    axes.set_title(
        fill(f"{panel.title}: {safe(panel.says)}", TITLE), loc="left", fontsize=10.5, fontweight="bold", pad=8
    )
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
    for state in ORDER:
        counts = [states.get(state, 0) for _, states in panel.bars]
        shares = [count / total for count, total in zip(counts, totals, strict=True)]
        axes.barh(places, shares, left=left, color=COLOURS[state], height=0.72, linewidth=0)
        for place, (count, share, start) in enumerate(zip(counts, shares, left, strict=True)):
            if share >= 0.05:
                axes.text(start + share / 2, place, f"{count:,}", ha="center", va="center", color=_PAPER, fontsize=8.5)
        left = [start + share for start, share in zip(left, shares, strict=True)]
    axes.set_yticks(
        places,
        [clip(safe(name), 40) + (f"  {sum(states.values()):,}" if panel.totals else "") for name, states in panel.bars],
    )
    axes.set_ylim(len(panel.bars) - 0.5, -0.5)
    axes.set_xlim(0, 1)
    axes.set_xticks([])
    axes.spines["bottom"].set_visible(False)


def _columns(axes: Axes, panel: Panel) -> None:
    """One column a step, as high as it has addresses."""
    places = range(len(panel.bars))
    base = [0] * len(panel.bars)
    for state in ORDER:
        counts = [states.get(state, 0) for _, states in panel.bars]
        axes.bar(places, counts, bottom=base, color=COLOURS[state], width=0.72, linewidth=0)
        base = [start + count for start, count in zip(base, counts, strict=True)]
    for place, total in enumerate(base):
        axes.text(place, total, f"{total:,}", ha="center", va="bottom", color=_SOFT, fontsize=8.5)
    axes.set_xticks(places, [name.replace(" ", "\n") for name, _ in panel.bars])
    axes.set_yticks([])
    axes.margins(y=0.12)
    axes.set_xlim(-0.6, max(len(panel.bars), 8) - 0.4)


def _legend(figure: Figure, shown: Sequence[Panel]) -> None:
    there = {state for panel in shown for _, states in panel.bars for state, count in states.items() if count}
    words = {state: word for panel in shown for state, word in panel.words.items()}
    marks = [matplotlib.patches.Patch(color=COLOURS[s], label=words.get(s, s.value)) for s in ORDER if s in there]
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


def _as_file(make: Callable[[], Figure], form: str) -> bytes:
    """A figure as PNG or SVG, without what would differ from one run to the next."""
    how: dict[str, Any] = (
        {"dpi": 110, "metadata": {"Software": None}} if form == "png" else {"metadata": {"Date": None, "Creator": None}}
    )
    out = io.BytesIO()
    with matplotlib.rc_context(_SETTINGS), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")  # a site's letters may be in no font here
        make().savefig(out, format=form, facecolor=_PAPER, **how)
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
    return _as_file(_all(verdict, site), "png")


def render_svg(verdict: Verdict, site: Site) -> bytes:
    """All figures, one under the other; letters are drawn, so that they look the same everywhere."""
    return _as_file(_all(verdict, site), "svg")


def history_figure(found: History, form: str) -> bytes:
    """The states over time, one bar an audit, and how many wanted pages were lost, as PNG or SVG."""
    panel = history_panel(found)
    return _as_file(lambda: _figure([panel], f"{found.site}, {len(found.runs)} audits"), form)


def matrix_figure(rows: Sequence[MatrixRow], subject: str, says: str, form: str) -> bytes:
    """What crawlers may read, one bar for those of a purpose that the same rules hold for: the share of known addresses,
    or all, a half for a part, nothing."""
    groups: dict[tuple[str, str | None, float], list[str]] = {}
    for row in rows:
        barred = row.barred if row.barred is not None else {"everything": 0.0, "part": 0.5, "nothing": 1.0}[row.reads]
        groups.setdefault((row.purpose, row.group, barred), []).extend(row.crawlers)
    bars = []
    for (purpose, _, barred), names in groups.items():
        shares = {State.BARRED.value: round(100 * barred), State.OPEN.value: 100 - round(100 * barred)}
        told = names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
        bars.append((f"{purpose}: {told}" if purpose != "all others" else told, {k: v for k, v in shares.items() if v}))
    words = {State.OPEN.value: "may read (per cent)", State.BARRED.value: "barred"}
    panel = Panel("matrix", "Who may read what", says, bars, totals=False, words=words)
    return _as_file(lambda: _figure([panel], subject), form)
