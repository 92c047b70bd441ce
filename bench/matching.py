"""Deciding many addresses against many rules, beside the standard library's parser.

The standard library knows no wildcards, so it is wrong on the wildcard rules and gets them as
literals; it is timed for speed only. Right answers are compared with the slow second reading.
"""

from __future__ import annotations

import random
import sys
import time
from pathlib import Path
from urllib.robotparser import RobotFileParser

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from indrel.core.robots import match_many, parse
from reference_robots import allowed as reference

WORDS = (
    "huts", "routes", "news", "shop", "tag", "author", "search", "view", "sort", "page", "map", "winter", "summer",
    "ridge", "beck", "tarn", "crag", "stove", "2025", "2026",
)  # fmt: skip


def robots(rng: random.Random, rules: int) -> list[str]:
    lines = ["User-agent: *"]
    for i in range(rules):
        path = "/" + "/".join(rng.choices(WORDS, k=rng.randrange(1, 4)))
        if i % 3 == 0:
            path = rng.choice([f"/*?{rng.choice(WORDS)}=", f"/*.{rng.choice(WORDS)}$", f"{path}/*/{rng.choice(WORDS)}",
                               f"/*/{rng.choice(WORDS)}/*{rng.choice(WORDS)}"])  # fmt: skip
        lines.append(f"{rng.choice(['Disallow', 'Disallow', 'Allow'])}: {path}")
    return lines


def addresses(rng: random.Random, count: int) -> list[str]:
    found = []
    for i in range(count):
        path = "/" + "/".join(rng.choices(WORDS, k=rng.randrange(1, 6))) + rng.choice(["/", ".html", "", f"-{i}"])
        found.append(path + (f"?{rng.choice(WORDS)}={i % 97}" if rng.random() < 0.3 else ""))
    return found


def timed(rules: int, paths: list[str], rng: random.Random) -> tuple[float, list[str]]:
    lines = robots(rng, rules)
    parsed = parse("\n".join(lines).encode()).ruleset(("*",)).rules
    best = min(_once(parsed, paths) for _ in range(3))
    return best, lines


def _once(parsed: object, paths: list[str]) -> float:
    began = time.perf_counter()
    match_many(parsed, paths)
    return time.perf_counter() - began


def main() -> None:
    rng = random.Random(9309)
    paths = addresses(rng, 200_000)
    few, _ = timed(30, paths, rng)
    many, lines = timed(300, paths, rng)
    library = RobotFileParser()
    library.parse(lines)
    sample = paths[::10]
    began = time.perf_counter()
    for path in sample:
        library.can_fetch("x", "https://h.example" + path)
    baseline = (time.perf_counter() - began) * 10
    rules = parse("\n".join(lines).encode()).ruleset(("*",)).rules
    checked = paths[::100]
    got = match_many(rules, checked).tolist()
    wrong = sum((i < 0 or rules[i].allow) is not reference(lines, "x", p) for p, i in zip(checked, got, strict=True))
    print(f"200,000 addresses, 300 rules (100 with wildcards): {many:.3f} s, {200_000 / many:,.0f} a second")
    print(f"standard library (every tenth address, wildcards as literals): {baseline:.2f} s for as many")
    print(f"ratio: {baseline / many:.1f} (goal: at least 25)")
    print(f"30 rules: {few:.3f} s; 300 rules take {many / few:.2f} times as long (goal: at most 2)")
    print(f"disagreements with the second reading on {len(checked):,} addresses: {wrong}")


if __name__ == "__main__":
    main()
