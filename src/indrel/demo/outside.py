"""An engine's export and a server's log for the demonstration site, to try `indrel reconcile` on."""

from __future__ import annotations

from collections.abc import Iterator

from indrel.demo.page import MAIN
from indrel.demo.site import HUTS, NEWS, ROUTES, TAGS, slug

AGENTS = {
    "Googlebot": "Mozilla/5.0 (compatible; Googlebot/2.1)",
    "Bingbot": "Mozilla/5.0 (compatible; bingbot/2.0)",
    "GPTBot": "Mozilla/5.0 (compatible; GPTBot/1.2)",
    "": "Mozilla/5.0 (X11; Linux x86_64)",
}


def export() -> str:
    """A table as an engine's owner console gives it, in its own words: addresses, what it does with them, since when."""
    rows = [("Page", "Coverage", "Last visit", "Clicks")]
    rows += [(f"https://{MAIN}/huts/{slug(h)}/", "Listed", "2026-11-12", str(40 - n)) for n, h in enumerate(HUTS[:10])]
    rows += [(f"{MAIN}/routes/{slug(r)}", "Listed", "2026-11-09", str(20 - n)) for n, r in enumerate(ROUTES[:8])]
    rows += [(f"https://{MAIN}/tag/{t}/", "Listed", "2026-06-02", "0") for t in TAGS[:3]]
    rows += [(f"https://{MAIN}/bookings/{slug(h)}/", "Listed without content", "2026-10-01", "3") for h in HUTS[:2]]
    rows += [(f"https://{MAIN}/news/{n}/", "Discovered, not listed", "", "0") for n in NEWS[:4]]
    rows += [(f"http://{MAIN}/routes/miners-track/", "Not listed: redirect", "2026-09-30", "0")]
    rows += [(f"https://{MAIN}/conditions/2019-02-{day:02d}/", "Listed", "2019-03-01", "0") for day in range(1, 5)]
    rows += [("see the other sheet", "", "", ""), ("https://outfitter.example/", "Listed", "2026-11-01", "1")]
    return "\n".join(";".join(row) for row in rows) + "\n"


def log(lines: int = 400) -> Iterator[str]:
    """Lines of an access log in Combined Log Format."""
    paths = [f"/huts/{slug(h)}/" for h in HUTS] + [f"/bookings/{slug(h)}/" for h in HUTS[:5]]
    paths += [f"/tag/{t}/" for t in TAGS] + [
        "/robots.txt",
        "/search?q=stove",
        "/conditions/2019-02-01/",
        "/routes/",
        "/",
    ]
    names = list(AGENTS)
    for number in range(lines):
        name = names[number % len(names)]
        path = paths[number * 7 % len(paths)]
        host = {"Googlebot": f"crawl-{number}.googlebot.com", "Bingbot": "elsewhere.example"}.get(name, "203.0.113.7")
        status = 404 if "2019" in path else 200
        when = f"{1 + number % 22:02d}/Nov/2026:08:{number % 60:02d}:00 +0000"
        yield f'{host} - - [{when}] "GET {path} HTTP/1.1" {status} 512 "-" "{AGENTS[name]}"\n'
