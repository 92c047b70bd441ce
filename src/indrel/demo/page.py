"""Pages in the trust's template."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape

MAIN = "www.sarnfell.example"
API = "api.sarnfell.example"


@dataclass(frozen=True)
class Response:
    """One answer: status, headers beside Content-Type, body."""

    body: bytes = b""
    status: int = 200
    media_type: str = "text/html; charset=utf-8"
    headers: tuple[tuple[str, str], ...] = ()


def moved(to: str, status: int = 301) -> Response:
    return Response(b"", status, "text/plain", (("Location", to),))


MENU = (
    ("/huts/", "Huts"), ("/routes/", "Routes"), ("/conditions/", "Conditions"), ("/news/", "News"), ("/events/", "Events"),
    ("/shop/", "Shop"), ("/bookings/", "Book a bunk"), ("/about/", "About the trust"),
)  # fmt: skip


def page(
    title: str,
    body: str,
    *,
    canonical: str | None = None,
    robots: str | None = None,
    head: str = "",
    before_head_end: str = "",
    headers: tuple[tuple[str, str], ...] = (),
) -> Response:
    """A page in the trust's template."""
    lines = [
        "<!doctype html>",
        '<html lang="en">',
        "<head>",
        '<meta charset="utf-8">',
        f"<title>{escape(title)}</title>",
    ]
    lines += [before_head_end] if before_head_end else []
    lines += [f'<meta name="robots" content="{robots}">'] if robots else []
    lines += [f'<link rel="canonical" href="{canonical}">'] if canonical else []
    lines += [head] if head else []
    if title.startswith("Conditions on"):
        lines.append(f"<script>fetch('https://{API}/v1/conditions')</script>")
    lines += [
        '<link rel="stylesheet" href="/assets/site.css">',
        '<script src="/assets/site.js" defer></script>',
        "</head>",
    ]
    menu = " ".join(f'<a href="{href}">{text}</a>' for href, text in MENU)
    lines += ["<body>", f"<header><nav>{menu}</nav></header>", f"<main><h1>{escape(title)}</h1>", body, "</main>"]
    lines += [
        '<footer><a href="/donate/" rel="nofollow">Donate</a> <a href="/members/">Members</a> '
        '<a href="/accessibility/">Accessibility</a> <a href="/legal/old-terms/">Terms</a></footer>',
        "</body>",
        "</html>",
    ]
    return Response("\n".join(lines).encode(), headers=headers)


def links(pairs: list[tuple[str, str]]) -> str:
    return "<ul>\n" + "\n".join(f'<li><a href="{href}">{escape(text)}</a></li>' for href, text in pairs) + "\n</ul>"


def at(path: str) -> str:
    return f"https://{MAIN}{path}"
