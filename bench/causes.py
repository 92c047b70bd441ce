"""One edit, one cause: defects of a template or server, alone and two at a time, each audited, fixed as advised and audited again.

For each shape: the number of causes that it becomes (one is right), whether the text that the report advises fixes it, and
what it is reported as. `python bench/causes.py [alone]`; `alone` leaves the pairs out.
"""

from __future__ import annotations

import itertools
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import indrel
from indrel.core.model import Cause, Severity
from indrel.demo.page import Response, moved
from indrel.demo.server import DemoServer
from indrel.demo.site import Site

HOST = "www.huts.example"
ROOT = f"https://{HOST}"
NAMES = ["anvil", "birch", "cairn", "dale", "eagle", "fell", "gorse", "heather"]
Pages = dict[str, str | Response]
Fix = Callable[[Pages, Cause], None]


def text(name: str) -> str:
    return f"<p>{' '.join(f'{name}{n}' for n in range(80))}</p>"


def page(path: str, head: str = "", body: str = "", canonical: str | None = "") -> str:
    where = ROOT + path if canonical == "" else canonical
    tag = f'<link rel="canonical" href="{where}">\n' if where else ""
    body = body or text(path.strip("/"))
    head = f"<title>{path}</title>\n{tag}{head}"
    return f"<!doctype html>\n<html><head>{head}</head><body><h1>{path}</h1>\n{body}</body></html>\n"


def linked(paths: list[str]) -> str:
    return "".join(f'<a href="{p}">{p}</a>\n' for p in paths)


def site_of(paths: list[str], pages: Pages, entries: list[str] | None = None, rules: str = "") -> Pages:
    """Pages that the home page links to, with a sitemap and a robots.txt."""
    listed = [e if "://" in e else ROOT + e for e in (paths if entries is None else entries)]
    urls = "".join(f"<url><loc>{u}</loc></url>\n" for u in [ROOT + "/", *listed])
    return {
        "/": page("/", body=linked(paths) + text("home")),
        "/robots.txt": f"User-agent: *\n{rules}Disallow: /tmp/\nSitemap: {ROOT}/sitemap.xml\n",
        "/sitemap.xml": f'<?xml version="1.0"?>\n<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">\n{urls}</urlset>\n',
        **pages,
    }


def edit(pages: Pages, cause: Cause) -> None:
    """Do what the report says on every page of the cause: put the advised text in place of the present one."""
    first = cause.findings[0]
    for finding in cause.findings[: 1 if first.evidence[0].kind == "robots" else None]:
        line = next((e for e in finding.evidence if e.text == cause.now or e.kind == _kind(cause)), None)
        assert line is not None, (cause.check, cause.now)
        path = line.where.removeprefix(ROOT)
        new = cause.instead.replace(first.url, finding.url).partition("  (")[0]
        if cause.instead.startswith("("):
            new = ""
        body = pages[path]
        assert isinstance(body, str)
        if path.endswith(".xml"):
            pages[path] = body.replace(f"<url>{line.text}</url>\n", f"<url>{new}</url>\n" if new else "")
        else:
            pages[path] = body.replace(line.text, new)


def _kind(cause: Cause) -> str:
    return next(e.kind for e in cause.findings[0].evidence if e.text == cause.now)


@dataclass(frozen=True)
class Shape:
    """A defect: the site's part that has it, below `prefix`; the check and relation that should report it; words of the right
    advice if no text follows from the facts."""

    name: str
    part: Callable[[str], Pages]
    check: str
    relation: str
    advice: str = ""
    entries: Callable[[str], list[str]] | None = None
    rules: Callable[[str], str] | None = None


def canonicals(target: Callable[[str, str], str]) -> Callable[[str], Pages]:
    return lambda p: {f"/{p}/{n}/": page(f"/{p}/{n}/", canonical=target(p, n)) for n in NAMES}


def both(twin: Callable[[str, str], str]) -> Callable[[str], Pages]:
    """Pages that are also open under a second URL, without a canonical."""

    def part(p: str) -> Pages:
        found: Pages = {}
        for n in NAMES:
            body = page(f"/{p}/{n}/", body=text(p + n), canonical=None)
            found |= {f"/{p}/{n}/": body, twin(p, n): body}
        return found

    return part


def redirected(old: Callable[[str, str], str]) -> Callable[[str], Pages]:
    return lambda p: {
        **{f"/{p}/{n}/": page(f"/{p}/{n}/") for n in NAMES},
        **{old(p, n): moved(f"{ROOT}/{p}/{n}/") for n in NAMES},
    }


SHAPES = [
    Shape("scheme", canonicals(lambda p, n: f"http://{HOST}/{p}/{n}/"), "canonical-host-variant", "scheme", "redirect this one"),
    Shape("www", canonicals(lambda p, n: f"https://huts.example/{p}/{n}/"), "canonical-host-variant", "www", "redirect this one"),
    Shape("port", canonicals(lambda p, n: f"{ROOT}:8443/{p}/{n}/"), "canonical-host-variant", "port", "redirect this one"),
    Shape("other host", canonicals(lambda p, n: f"https://agency.example/{p}/{n}/"), "listed-folded", "other-host",
          "belongs to the other site"),
    Shape("nobody's host", canonicals(lambda p, n: f"http://localhost:8000/{p}/{n}/"), "canonical-to-closed-host", "other-host"),
    Shape("letter case", both(lambda p, n: f"/{p}/{n.capitalize()}/"), "twin-open", "letter-case", "Redirect one letter case"),
    Shape("slash", both(lambda p, n: f"/{p}/{n}"), "twin-open", "slash", "with or without the slash"),
    Shape("index file", both(lambda p, n: f"/{p}/{n}/index.html"), "twin-open", "file-form", "Redirect one form"),
    Shape("parameters", both(lambda p, n: f"/{p}/{n}/?view=1"), "twin-open", "parameters", "without the parameters"),
    Shape("print copies", both(lambda p, n: f"/{p}/{n}/print/"), "twin-open", "part", "canonicals point to it"),
    Shape("old version", canonicals(lambda p, n: f"{ROOT}/{p}/7.0/{n}/"), "canonical-to-gone", "part"),
    Shape("hash", canonicals(lambda p, n: f"{ROOT}/{p}/3fa9{NAMES.index(n)}c/{n}/"), "canonical-to-gone", "part"),
    Shape("home page", canonicals(lambda p, n: f"{ROOT}/"), "canonical-to-start", "home"),
    Shape("parent", canonicals(lambda p, n: f"{ROOT}/{p}/"), "canonical-to-gone", "parent"),
    Shape("one target", canonicals(lambda p, n: f"{ROOT}/away-{p}"), "canonical-to-gone", "one-target"),
    Shape("pattern", canonicals(lambda p, n: f"{ROOT}/old{p}/{n[::-1]}-{len(n)}"), "canonical-to-gone", "unrelated"),
    Shape("unusable", canonicals(lambda p, n: f"file:///srv/{p}/{n}/index.html"), "canonical-unusable", ""),
    Shape(
        "page 1",
        lambda p: {
            f"/{p}/": page(f"/{p}/", body=text(p) + linked([f"/{p}/?page={n}" for n in range(2, 9)])),
            **{
                f"/{p}/?page={n}": page(f"/{p}/?page={n}", body=text(f"{p}x{n}") + linked([f"/{p}/"]), canonical=f"{ROOT}/{p}/")
                for n in range(2, 9)
            },
        },
        "canonical-first-page",
        "first-page",
        entries=lambda p: [f"/{p}/"],
    ),
    Shape(
        "noindex",
        lambda p: {f"/{p}/{n}/": page(f"/{p}/{n}/", '<meta name="robots" content="noindex">\n') for n in NAMES},
        "listed-hidden",
        "",
        "Remove the noindex if",
    ),
    Shape(
        "sitemap redirects",
        redirected(lambda p, n: f"/{p}/{n}"),
        "listed-redirects",
        "slash",
        entries=lambda p: [f"/{p}/{n}" for n in NAMES],
    ),
    Shape(
        "sitemap of both",
        redirected(lambda p, n: f"/{p}/{n}.html"),
        "listed-redirects",
        "file-form",
        entries=lambda p: [f"/{p}/{n}{e}" for n in NAMES for e in (".html", "/")],
    ),
    Shape(
        "sitemap of gone pages",
        lambda p: {f"/{p}/{n}/": Response(b"gone", 410) for n in NAMES},
        "listed-gone",
        "",
        entries=lambda p: [f"/{p}/{n}/" for n in NAMES],
    ),
    Shape(
        "rule",
        lambda p: {path: page(path) for n in NAMES for path in (f"/{p}/print-{n}/", f"/{p}/{n}/print")},
        "listed-barred",
        "",
        entries=lambda p: [f"/{p}/print-{n}/" for n in NAMES],
        rules=lambda p: f"Disallow: /{p}/*print\n",
    ),
]  # fmt: skip


def built(shapes: tuple[Shape, ...]) -> Pages:
    pages: Pages = {}
    entries: list[str] = []
    rules = ""
    for number, shape in enumerate(shapes):
        prefix = f"part{'ab'[number]}"
        part = shape.part(prefix)
        pages |= part
        entries += shape.entries(prefix) if shape.entries else list(part)
        rules += shape.rules(prefix) if shape.rules else ""
    linked_to = [p for p, answer in pages.items() if isinstance(answer, str)]
    return site_of(linked_to, pages, entries, rules)


def audited(pages: Pages) -> list[Cause]:
    """The causes to fix or to ask about, without what other shapes of a small site imply."""
    site = Site(missing={HOST: Response(b"<title>Not found</title>", 404)})
    for path, answer in pages.items():
        if isinstance(answer, str):
            kind = (
                "text/plain" if path.endswith(".txt") else "application/xml" if path.endswith(".xml") else "text/html"
            )
            answer = Response(answer.encode(), media_type=kind)
        site.pages[ROOT + path] = answer
    with DemoServer(site=site) as server, tempfile.TemporaryDirectory() as folder:
        options = {
            "rate": 0,
            "connect": {HOST: f"http://127.0.0.1:{server.port}"},
            "snapshot": Path(folder) / "s.indrel",
        }
        with indrel.audit(ROOT + "/", **options) as audit:  # type: ignore[arg-type]
            return [c for c in audit.causes if c.severity in (Severity.STOP, Severity.FIX, Severity.ASK)]


def tried(shapes: tuple[Shape, ...]) -> Iterator[str]:
    """What is wrong with the report on a site with these shapes."""
    pages = built(shapes)
    causes = audited(pages)
    found = {(c.check, c.relation.partition(" ")[0]) for c in causes}
    if len(causes) != len(shapes):
        named = ", ".join(f"{c.check} ({c.relation or '-'}) {c.count}" for c in causes)
        yield f"{len(causes)} causes: {named}"
    for shape in shapes:
        if (shape.check, shape.relation) not in found:
            yield f"not reported as {shape.check} ({shape.relation or '-'})"
    for cause in causes:
        shape = next(
            (s for s in shapes if (s.check, s.relation) == (cause.check, cause.relation.partition(" ")[0])), None
        )
        if shape is None:
            continue
        if shape.advice:
            if shape.advice not in cause.mend:
                yield f"{cause.check}: advises {cause.mend!r}"
            continue
        if not cause.instead:
            yield f"{cause.check}: no text to write instead ({cause.mend})"
            continue
        fixed = dict(pages)
        edit(fixed, cause)
        left = [c for c in audited(fixed) if c.id not in {o.id for o in causes} - {cause.id}]
        if left:
            yield f"{cause.check}: after the edit, {', '.join(f'{c.check} {c.count}' for c in left)}"


def main() -> None:
    sets: list[tuple[Shape, ...]] = [(s,) for s in SHAPES]
    if sys.argv[1:] != ["alone"]:
        sets += itertools.combinations(SHAPES, 2)
    wrong = 0
    for shapes in sets:
        problems = list(tried(shapes))
        wrong += bool(problems)
        for problem in problems:
            print(f"{' and '.join(s.name for s in shapes)}: {problem}")
    print(f"{len(sets) - wrong} of {len(sets)} sites: one cause per edit, and the advice is right")
    raise SystemExit(bool(wrong))


if __name__ == "__main__":
    main()
