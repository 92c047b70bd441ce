"""The answer of `explain`: what is known of one URL."""

from __future__ import annotations

from dataclasses import dataclass, field

from indrel.ask.change_step import Step
from indrel.ask.rendered_view import View
from indrel.base.notebook import page
from indrel.core.intent import WantEntry
from indrel.core.model import Evidence, Finding


@dataclass(frozen=True)
class Explanation:
    """What is known of one URL."""

    url: str
    known: bool
    kind: str
    section: str
    want: str
    want_because: str
    states: dict[str, str]
    steps: dict[str, list[Step]]
    linked_from: list[Evidence] = field(default_factory=list)
    link_count: tuple[int, int] = (0, 0)
    listed_in: list[Evidence] = field(default_factory=list)
    folds_into: str | None = None
    folded_here: list[str] = field(default_factory=list)
    folded_count: int = 0
    findings: list[Finding] = field(default_factory=list)
    kind_because: str = ""
    entry: WantEntry | None = None
    shadowed: list[WantEntry] = field(default_factory=list)
    clicks: int | None = None
    template: float = 0.0
    views: list[View] = field(default_factory=list)
    file: str | None = None
    """What it is and how much is in it, if it is a file for crawlers: a sitemap, robots.txt, a feed."""

    near: list[str] = field(default_factory=list)
    """Known URLs that may be meant, if it is not known itself."""

    @property
    def sentence(self) -> str:
        """The URL with its state for each crawler."""
        return f"{self.url}: {', '.join(f'{state} for {name}' for name, state in self.states.items()) or 'not known'}"

    def __repr__(self) -> str:
        return f"<Explanation {self.sentence}>"

    def _repr_html_(self) -> str:
        """The steps of each crawler, and the findings."""
        steps = [
            (name, s.step, s.outcome, *next(((e.where, e.line, e.text) for e in s.evidence), ("", None, "")))
            for name, each in self.steps.items()
            for s in each
        ]
        rows = [*steps, *(("", f.check, f.message, f.url, None, "") for f in self.findings)]
        return page(self.sentence, ("crawler", "step", "outcome", "where", "line", "text"), rows)

    def as_json(self) -> dict[str, object]:
        doc: dict[str, object] = {
            "url": self.url,
            "want": {
                "value": self.want,
                "rule": self.entry.text if self.entry else None,
                "because": self.want_because,
                "stated": self.entry is not None,
            },
            "states": self.states,
            "steps": {name: [s.as_json() for s in steps] for name, steps in self.steps.items()},
            "linked_from": [e.as_json() for e in self.linked_from],
            "listed_in": [e.as_json() for e in self.listed_in],
            "folds_into": self.folds_into,
            "folded_here": self.folded_here,
            "findings": [f.as_json() for f in self.findings],
            "near": self.near,
            "kind": self.kind,
            "kind_because": self.kind_because,
            "section": self.section,
            "clicks": self.clicks,
            "known": self.known,
        }
        if self.file:
            doc["file"] = self.file
        if self.views:
            first, *others = (v.as_json() for v in self.views)
            doc["rendered"] = first | ({"others": others} if others else {})
        return doc
