"""A second reading of RFC 9309, literal and slow: decides one address against one file, sharing no code with the product."""

from __future__ import annotations

UNRESERVED = set("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
HEX = set("0123456789abcdefABCDEF")


def tokens(text: str, pattern: bool) -> list[tuple[str, int]]:
    """A path as comparable octets (with STAR, END and literals of both), each with the octets it counts for."""
    out: list[tuple[str, int]] = []
    i = 0
    while i < len(text):
        c = text[i]
        code = text[i + 1 : i + 3]
        if c == "%" and len(code) == 2 and set(code) <= HEX:
            char = chr(int(code, 16))
            if char in UNRESERVED:
                out.append((char, 1))
            elif char in "*$":  # stands for the literal as one thing
                out.append((f"LITERAL{char}", 3))
            else:  # stays an escape: three octets like any others
                out += [(c, 1) for c in "%" + code.upper()]
            i += 3
            continue
        if ord(c) > 127:
            out += [(c, 1) for b in c.encode() for c in f"%{b:02X}"]
        elif pattern and c == "*":
            out.append(("STAR", 1))
        elif pattern and c == "$" and i == len(text) - 1:
            out.append(("END", 1))
        elif c in "*$":
            out.append((f"LITERAL{c}", 1))
        else:
            out.append((c, 1))
        i += 1
    return out


def matches(pattern: list[tuple[str, int]], path: list[tuple[str, int]]) -> bool:
    """Wildcard matching by filling a table of reachable positions, one pattern octet at a time."""
    reachable = {0}
    for token, _ in pattern:
        if token == "STAR":
            reachable = set(range(min(reachable), len(path) + 1)) if reachable else set()
        elif token == "END":
            reachable = {p for p in reachable if p == len(path)}
        else:
            reachable = {p + 1 for p in reachable if p < len(path) and path[p][0] == token}
    return bool(reachable)


def groups(lines: list[str]) -> list[tuple[list[str], list[tuple[bool, str]]]]:
    found: list[tuple[list[str], list[tuple[bool, str]]]] = []
    in_rules = True
    for line in lines:
        content = line.split("#")[0].strip()
        if ":" not in content:
            continue
        name, value = (part.strip() for part in content.split(":", 1))
        if name.lower() == "user-agent":
            if in_rules:
                found.append(([], []))
                in_rules = False
            found[-1][0].append(value)
        elif name.lower() in ("allow", "disallow") and found:
            in_rules = True
            if value:
                found[-1][1].append((name.lower() == "allow", value))
    return found


def product(value: str) -> str:
    if value.startswith("*"):
        return "*"
    kept = ""
    for c in value:
        if not (c.isascii() and (c.isalpha() or c in "_-")):
            break
        kept += c
    return kept.lower()


def allowed(lines: list[str], crawler: str, path: str) -> bool:
    """Whether `crawler` may fetch `path`."""
    if path == "/robots.txt":
        return True
    all_groups = groups(lines)
    rules: list[tuple[bool, str]] = []
    for wanted in (crawler.lower(), "*"):
        named = [r for agents, r in all_groups if wanted in [product(a) for a in agents]]
        if named:
            rules = [rule for group in named for rule in group]
            break
    best: tuple[int, bool] | None = None
    for allow, pattern in rules:
        if matches(tokens(pattern, True), tokens(path, False)):
            weight = (sum(count for _, count in tokens(pattern, True)), allow)
            best = weight if best is None else max(best, weight)
    return best is None or best[1]
