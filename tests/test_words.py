"""Plain words: patterns that no text for users may have, and limits on the length of messages and help."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

from indrel.checks import checks
from indrel.cli.app import COMMANDS, _Commands
from test_checks import MESSAGES

ROOT = Path(__file__).parent.parent
DOCS = [
    ROOT / "README.md",
    ROOT / "CHANGELOG.md",
    ROOT / "SECURITY.md",
    ROOT / "CONTRIBUTING.md",
    *(ROOT / "docs").glob("*.md"),
]
TEMPLATES = sorted((ROOT / "src").rglob("*.j2"))
MODULES = sorted((ROOT / "src").rglob("*.py"))
FORBIDDEN = re.compile(
    r"\b(is|are) to be\b|\bnames? (no|as) canonical|\b(take|taken|takes) (out|off|away)\b|\banew\b|\blikewise\b|\boctets?\b"
    r"|\bmend(s|ed|ing)?\b|\blapses?\b|\bheld against\b|\bset against\b|\bhardly\b|\bmerely\b|\bat best\b|\ball the same\b"
    r"|\b(is|are|was) told\b|\bby no rule\b|\bin no sitemap\b|\bby now\b|\b(made-up) address|(?:^|[.:] )Of (a|an|the|each|what)\b"
)  # fmt: skip
ALLOWED = {"`fix` (`mend`)"}
"""Old words that a text may have: the changelog names the label of before."""


def texts(module: Path) -> list[str]:
    """The strings of a module that read as prose, docstrings included: SQL, keys and names are skipped."""
    found = []
    for node in ast.walk(ast.parse(module.read_text("utf-8"))):
        if isinstance(node, ast.JoinedStr):
            parts = [p.value if isinstance(p, ast.Constant) else "{}" for p in node.values]
            found.append("".join(str(p) for p in parts))
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            found.append(node.value)
    return [
        t
        for t in found
        if " " in t.strip() and not re.search(r"\b(SELECT|FROM|OR|CASE WHEN|CREATE TABLE|PRIMARY KEY)\b", t)
    ]


@pytest.mark.parametrize("path", [*DOCS, *TEMPLATES, *MODULES], ids=lambda p: str(p.relative_to(ROOT)))
def test_no_old_phrase(path: Path) -> None:
    whole = path.read_text("utf-8")
    for text in texts(path) if path.suffix == ".py" else [re.sub(r"\{[%{#].*?[%}#]\}|<[^>]*>", "", whole)]:
        for allowed in ALLOWED:
            text = text.replace(allowed, "")
        for match in FORBIDDEN.finditer(text):
            raise AssertionError(f"{path.name}: {text[max(0, match.start() - 60) : match.end() + 40]!r}")


@pytest.mark.parametrize("id", sorted(MESSAGES))
def test_a_message_is_a_short_sentence(id: str) -> None:
    message = MESSAGES[id]
    assert re.match(r"[`\dA-Z]|robots\.txt|https?://", message), message
    assert message.endswith(".") and not message.endswith("..") and len(message.split()) <= 25, message
    assert checks()[id].summary.endswith(".") and len(checks()[id].summary.split()) <= 25


def test_a_command_is_said_in_one_line() -> None:
    """At most 60 characters, for groups and for the commands in them."""
    found = {name: line for name, (_, line) in COMMANDS.items()}
    for name in COMMANDS:
        for below, command in getattr(_Commands()[name], "commands", {}).items():
            found[f"{name} {below}"] = (command.help or "").partition("\n")[0]
    assert len(found) > 25
    for name, line in found.items():
        assert re.fullmatch(r"[A-Z].{9,58}\.", line), (name, line)
