"""What the demonstration site answers, address by address. All names are made up; hosts are reserved ones."""

from __future__ import annotations

from dataclasses import dataclass, field
from html import escape
from importlib.resources import files
from itertools import pairwise

from indrel.demo.corners import LISTED, PREVIEW, add_corners
from indrel.demo.page import API, MAIN, Response, at, links, moved, page
from indrel.demo.scripted import add_scripted

BARE = "sarnfell.example"
STAGING = "staging.sarnfell.example"
WARDENS = "wardens.sarnfell.example"
WEBCAM = "webcam.sarnfell.example"
BOOK = "book.sarnfell.example"
HOSTS = (MAIN, BARE, API, STAGING, WARDENS, WEBCAM, BOOK, PREVIEW)
START = f"https://{MAIN}/"

HUTS = (
    "Anvil Stone", "Birk Howe", "Cald Beck", "Dun Crag", "Ewe Gap", "Fenwick Hause", "Gale Rigg", "Hollin Tarn",
    "Iron Keld", "Kestrel Nab", "Ling Moss", "Mirk Dale", "Nether Sarn", "Over Sarn",
)  # fmt: skip
ROUTES = (
    "Sarn Ridge", "Three Huts Round", "Miners Path", "Tarn Traverse", "Beck Way", "Winter Gully Approach", "Ewe Gap Loop",
    "High Cairns", "Old Coffin Road", "Keld Crossing", "Nab Edge", "Dale Head Circuit", "Quarry Steps", "Long Moss",
    "Crag Foot", "Ling Bank", "Gale Shoulder", "Sarnfell Horseshoe",
)  # fmt: skip
TAGS = ("winter", "families", "dogs", "water", "scrambling", "work-parties", "wildlife", "stoves", "access", "history")
NEWS = (
    "new-stove-at-cald-beck", "work-party-dates", "bridge-out-at-keld", "warden-wanted", "dark-sky-weekend",
    "path-repairs-on-sarn-ridge", "hut-fees-from-april", "lost-and-found", "trust-report", "thanks-to-volunteers",
)  # fmt: skip
DAYS = tuple(f"2026-11-{day:02d}" for day in range(8, 22))
SHOP = ("map-sheet", "hut-mug", "route-cards", "head-torch", "wool-hat", "patch")
EVENTS = ("autumn-work-party", "navigation-day", "winter-skills", "star-gazing", "annual-meeting", "hut-cooking")


@dataclass
class Site:
    """All answers by address; `missing` is what a host answers to any other path."""

    pages: dict[str, Response] = field(default_factory=dict)
    missing: dict[str, Response] = field(default_factory=dict)
    as_crawler: dict[tuple[str, str], Response] = field(default_factory=dict)

    def answer_as(self, agent: str, scheme: str, host: str, path: str) -> Response:
        """The answer to a request under a crawler's name: some pages differ then."""
        named = self.as_crawler.get((agent.partition("/")[0].lower(), path))
        return named or self.answer(scheme, host, path)

    def answer(self, scheme: str, host: str, path: str) -> Response:
        """The answer to one request; `path` has the query."""
        found = self.pages.get(f"{scheme}://{host}{path}")
        if found is None and (host == BARE or (host == MAIN and scheme == "http")):
            return moved(f"https://{MAIN}{path}")
        if found is None and host == BOOK and path.startswith("/calendar?month="):
            found = booking_month(path)
        return found or self.missing.get(host) or Response(b"not found\n", 404, "text/plain")


def intent_text() -> str:
    """The site's intent file."""
    return files("indrel.demo").joinpath("indrel.toml").read_text("utf-8")


def slug(name: str) -> str:
    return name.lower().replace(" ", "-")


def build() -> Site:
    """The whole site."""
    site = Site()
    _main_sections(site)
    _news_and_tags(site)
    _situations(site)
    _files(site)
    _other_hosts(site)
    add_scripted(site)
    add_corners(site)
    return site


def _main_sections(site: Site) -> None:
    put = site.pages
    put[START] = page(
        "Sarnfell Huts Trust",
        "<p>Fourteen simple huts in the Sarnfell hills, kept by volunteers and open to all who walk in.</p>"
        + links([(f"/huts/{slug(h)}/", h) for h in HUTS[:4]] + [(f"/routes/{slug(r)}/", r) for r in ROUTES[:4]])
        + '<p><img src="/assets/maps/overview.png" alt="map"> <a href="/routes/quarry-steps/">Quarry Steps</a></p>'
        + '<p><a href="/search?q=stove">Search for stoves</a> <a href="/weather/live">Live weather</a>'
        ' <a href="/press/">Press</a> <a href="/hut-book/">The hut book</a></p>',
        canonical=START,
    )
    put[at("/huts/")] = page("Huts", links([(f"/huts/{slug(h)}/", h) for h in HUTS]), canonical=at("/huts/"))
    for number, (hut, following) in enumerate(pairwise([*HUTS, HUTS[0]])):
        path = f"/huts/{slug(hut)}/"
        body = (
            f"<p>{hut} sleeps {6 + number} on two platforms. The stove burns wood that walkers carry up; water comes from "
            f"the beck {20 + 7 * number} metres east of the door. The warden looks in every {number % 5 + 2} days.</p>"
            + links(
                [
                    (f"/huts/{slug(following)}/", f"Next: {following}"),
                    (f"/routes/{slug(ROUTES[number])}/", ROUTES[number]),
                ]
            )
            + f'<p><a href="/bookings/{slug(hut)}/">Book a bunk at {hut}</a></p>'
        )
        put[at(path)] = page(f"{hut} hut", body, canonical=at(path))
    put[at("/routes/")] = page(
        "Routes",
        links([(f"/routes/{slug(r)}/", r) for r in ROUTES] + [("/routes/plantation-path/", "Plantation Path")]),
        canonical=at("/routes/"),
    )
    for number, route in enumerate(ROUTES):
        path = f"/routes/{slug(route)}/"
        body = (
            f"<p>{route} is {5 + number * 3 % 17} kilometres with {200 + 37 * number} metres of ascent. It begins at "
            f"the {('lower', 'upper', 'quarry')[number % 3]} car park and is {('easy', 'steady', 'hard')[number % 3]}.</p>"
            + links(
                [
                    (f"/huts/{slug(HUTS[number % len(HUTS)])}/", "Hut on the way"),
                    (f"/tag/{TAGS[number % len(TAGS)]}/", "More"),
                ]
            )
        )
        put[at(path)] = page(route, body, canonical=at(path))
    put[at("/conditions/")] = page(
        "Conditions", links([(f"/conditions/{d}/", d) for d in DAYS]), canonical=at("/conditions/")
    )
    for number, day in enumerate(DAYS):
        body = f"<p>Wind {10 + number} miles an hour, cloud at {400 + 20 * number} m, snow above {700 + number} m.</p>"
        put[at(f"/conditions/{day}/")] = page(f"Conditions on {day}", body, canonical=at(f"/conditions/{day}/"))
    put[at("/about/")] = page(
        "About the trust", "<p>Founded by walkers; run by its members.</p>", canonical=at("/about/")
    )
    put[at("/accessibility/")] = page("Accessibility", "<p>Two huts can be reached by wheelchair.</p>")


def _news_and_tags(site: Site) -> None:
    put = site.pages
    put[at("/news/")] = page(
        "News", links([(f"/news/{n}/", n.replace("-", " ")) for n in NEWS]), canonical=at("/news/")
    )
    for number, name in enumerate(NEWS):
        title = name.replace("-", " ").capitalize()
        body = f"<p>{title}: the committee met on the {number + 3}th and asks all members to read on.</p>" + links(
            [(f"/tag/{TAGS[number]}/", TAGS[number]), ("/newsletter/", "The newsletter")]
        )
        put[at(f"/news/{name}/")] = page(title, body, canonical=at(f"/news/{name}/"))
    put[at("/newsletter/")] = page(
        "Newsletter", "<p>Four times a year, on paper if you wish.</p>", canonical=at("/newsletter/")
    )
    for tag in TAGS:  # a template that hides archives, while the sitemap generator lists them
        body = links([(f"/routes/{slug(r)}/", r) for i, r in enumerate(ROUTES) if TAGS[i % len(TAGS)] == tag])
        put[at(f"/tag/{tag}/")] = page(f"About {tag}", body, robots="noindex, follow")
    for event in EVENTS:  # a banner in the head ends it: what follows is in the body
        title = event.replace("-", " ").capitalize()
        put[at(f"/events/{event}/")] = page(
            title,
            "<p>Meet at the lower car park at nine. Bring food, a torch and a friend.</p>",
            before_head_end='<div class="notice">Hut fees change in April</div>',
            robots="max-image-preview:large",
            canonical=at(f"/events/{event}/"),
        )
    put[at("/events/")] = page(
        "Events", links([(f"/events/{e}/", e.replace("-", " ")) for e in EVENTS]), canonical=at("/events/")
    )
    for number, item in enumerate(SHOP):  # a token that no crawler knows
        body = f"<p>{item.replace('-', ' ').capitalize()}, {4 + number} pounds. All proceeds go to the stoves.</p>"
        put[at(f"/shop/{item}/")] = page(item.replace("-", " ").capitalize(), body, robots="no-index, follow")
    put[at("/shop/")] = page(
        "Shop", links([(f"/shop/{i}/", i.replace("-", " ")) for i in SHOP]), canonical=at("/shop/")
    )


def _situations(site: Site) -> None:
    """Single pages, each with a mistake of its own."""
    put = site.pages
    put[at("/bookings/")] = page(
        "Book a bunk",
        links([(f"/bookings/{slug(h)}/", h) for h in HUTS] + [(f"https://{BOOK}/", "All nights")]),
        canonical=at("/bookings/"),
    )
    for hut in HUTS:  # barred, and hidden besides: the noindex can never be read
        put[at(f"/bookings/{slug(hut)}/")] = page(f"Book {hut}", "<p>Choose your nights.</p>", robots="noindex")
    put[at("/search?q=stove")] = page("Results for stove", links([("/huts/cald-beck/", "Cald Beck")]))
    put[at("/press/")] = page(
        "Press",
        "<p>Pictures for newspapers.</p>",
        head='<meta name="googlebot" content="noindex">',
        canonical=at("/press/"),
    )
    put[at("/hut-book/")] = page(
        "The hut book",
        '<p>What visitors wrote. <a href="/hut-book/2025/">2025</a> <a href="/hut-book/2024/">2024</a>'
        ' <a href="/hut-book/print/">To print</a> <a href="/huts/over-sarn/?view=map">Map view</a></p>',
        robots="index, follow",
        headers=(("X-Robots-Tag", "noindex"),),
    )
    put[at("/hut-book/2025/")] = page(
        "Hut book 2025", "<p>Rain, mostly, and good company.</p>", robots="index, noindex"
    )
    put[at("/hut-book/2024/")] = page(
        "Hut book 2024",
        "<p>A dry spring, and a fox at the door of Mirk Dale.</p>",
        robots="noindex",
        canonical=at("/hut-book/2025/"),
    )
    put[at("/hut-book/print/")] = page("Hut book to print", "<p>Pages to print.</p>", canonical=at("/tag/history/"))
    put[at("/huts/over-sarn/?view=map")] = page("Over Sarn map", "<p>Map.</p>", canonical=at("/huts/over-sarn/"))
    put[at("/donate/")] = page("Donate", "<p>Ten pounds keep a stove burning for a week.</p>", canonical=at("/donate/"))
    put[at("/members/")] = Response(
        b"members only\n", 401, "text/plain", (("WWW-Authenticate", 'Basic realm="members"'),)
    )
    put[at("/weather/live")] = Response(b"upstream failed\n", 500, "text/plain")
    put[at("/legal/old-terms/")] = moved("/legal/terms/")
    put[at("/legal/terms/")] = page(
        "Terms",
        '<p>Leave the hut as you would find it. <a href="/legal/privacy/">Privacy</a> <a href="/legal/cookies/">Cookies</a>'
        ' <a href="/legal/fees/">Fees</a> <a href="/legal/rota/">Rota</a></p>',
        canonical=at("/legal/terms/"),
    )
    put[at("/legal/privacy/")] = page(
        "Privacy",
        "<p>We keep names for one winter.</p>",
        canonical=at("/legal/privacy/"),
        head=f'<link rel="canonical" href="{at("/privacy-policy/")}">',
    )
    put[at("/privacy-policy/")] = moved("/legal/privacy/")
    put[at("/legal/cookies/")] = page("Cookies", "<p>None but the edible kind.</p>", canonical=at("/legal/old-terms/"))
    put[at("/legal/fees/")] = page("Fees", "<p>Eight pounds a night.</p>", canonical=at("/huts/fees/"))
    put[at("/legal/rota/")] = page(
        "Warden rota", "<p>Who is where in December.</p>", canonical=at("/bookings/over-sarn/")
    )
    put[at("/routes/miners-track/")] = moved("/routes/miners-path/")


def _files(site: Site) -> None:
    put = site.pages
    put[at("/assets/site.css")] = Response(b"body{font-family:serif}\n", media_type="text/css")
    put[at("/assets/site.js")] = Response(
        b"fetch('https://api.sarnfell.example/v1/conditions')\n", media_type="text/javascript"
    )
    put[at("/robots.txt")] = Response(
        "\n".join(
            [
                "# Sarnfell Huts Trust",
                "User-agent: *",
                "Disallow: /search",
                "Disallow: /bookings/",
                "Allow: /bookings/$",
                "Dissallow: /hut-book/print/",
                "Disallow: /routes/quarry",
                "Disallow: /assets/maps/",
                "Disallow: /Members/",
                "Disallow: warden-rota/",
                "Disallow: /hut-book/print*",
                "Allow: /hut-book/print*",
                "Disallow: /backup/members-2025.sql",
                "Disallow: /old/#shop",
                "Noindex: /tag/",
                "Crawl-delay: 5",
                "",
                "User-agent: Bingbot",
                "Disallow: /bookings/",
                "Allow: /bookings/$",
                "",
                "User-agent: GPTBot",
                "User-agent: CCBot",
                "Disallow: /",
                "",
                "User-agent: *",
                "Disallow: /old/",
                "",
                "User-agent: 2026",
                "Disallow: /drafts/",
                "",
                "Sitemap: https://huts-template.test/sitemap.xml",
                f"Sitemap: https://{MAIN}/sitemap.xml",
                f"Sitemap: https://{MAIN}/sitemap-archive.xml",
                f"Sitemap: https://{MAIN}/sitemap-live.xml",
                "",
            ]
        ).encode(),
        media_type="text/plain",
    )
    listed = [
        "/", "/huts/", *(f"/huts/{slug(h)}/" for h in HUTS), "/routes/", *(f"/routes/{slug(r)}/" for r in ROUTES),
        "/routes/miners-track/", "/routes/plantation-path/", "/conditions/", *(f"/conditions/{d}/" for d in DAYS),
        "/news/", *(f"/news/{n}/" for n in NEWS), "/newsletter/", "/events/", *(f"/events/{e}/" for e in EVENTS),
        "/shop/", *(f"/shop/{i}/" for i in SHOP), *(f"/tag/{t}/" for t in TAGS), "/bookings/", "/bookings/anvil-stone/",
        "/about/", "/donate/", "/members/", "/weather/live", "/huts/over-sarn/?view=map", "/legal/terms/",
        *LISTED,
    ]  # fmt: skip
    put[at("/sitemap.xml")] = sitemap([at(p) for p in listed])
    put[at("/sitemap-archive.xml")] = Response(
        b'<?xml version="1.0" encoding="UTF-8"?>\n<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">\n'
        b"<url><loc>https://www.sarnfell.example/hut-book/?a=1&b=2</loc></url>\n</urlset>\n",
        media_type="application/xml",
    )
    put[at("/sitemap-live.xml")] = page("Page not found", "<p>Try the list of huts.</p>")
    site.missing[MAIN] = Response(page("Page not found", "<p>Try the list of huts.</p>").body, 404)


def sitemap(urls: list[str]) -> Response:
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', '<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">']
    lines += [f"  <url><loc>{escape(url)}</loc></url>" for url in urls]
    return Response("\n".join([*lines, "</urlset>", ""]).encode(), media_type="application/xml")


def booking_month(path: str) -> Response:
    """The calendar of the booking host: twelve months, then nothing."""
    month = path.rpartition("=")[2]
    if not month.isdigit() or not 1 <= int(month) <= 12:
        return Response(b"no such month\n", 404, "text/plain")
    onward = f'<a href="/calendar?month={int(month) + 1}">next</a>' if int(month) < 12 else ""
    body = f"<!doctype html><title>Month {month}</title><h1>Nights in month {month}</h1>{onward}"
    return Response(body.encode(), headers=(("X-Robots-Tag", "noindex"),))


def _other_hosts(site: Site) -> None:
    put = site.pages
    # The data host blocks everything, and pages of the main host need it.
    put[f"https://{API}/"] = Response(b'{"service": "conditions"}\n', media_type="application/json")
    put[f"https://{API}/robots.txt"] = Response(
        b"Disallow: /v0/\nUser-agent: *\nDisallow: /\n", media_type="text/plain"
    )
    # The copy on the staging host says noindex on every page.
    hidden = (("X-Robots-Tag", "noindex"),)
    staging = f"https://{STAGING}"
    put[f"{staging}/robots.txt"] = Response(
        b"Crawl-delay: 10\nDisallow: /drafts/\nUser-agent: *\n", media_type="text/plain"
    )
    put[f"{staging}/"] = Response(
        b'<!doctype html><title>Staging</title><h1>Next</h1><a href="/huts/">Huts</a> <a href="/routes/">Routes</a>',
        headers=hidden,
    )
    for name in ("huts", "routes"):
        body = f"<!doctype html><title>{name}</title><h1>New {name} pages</h1><p>Words to come.</p>"
        put[f"{staging}/{name}/"] = Response(body.encode(), headers=hidden)
    # The wardens' app answers every path with its shell.
    shell = b"<!doctype html>\n<html><head><title>Rota</title></head><body><div id=app></div></body></html>\n"
    site.missing[WARDENS] = Response(shell)
    # The webcam host is down for the winter.
    site.missing[WEBCAM] = Response(b"closed for the winter\n", 503, "text/plain")
    # The booking host has no robots.txt, and still hides itself, as while it was built.
    put[f"https://{BOOK}/"] = Response(
        b'<!doctype html><title>Nights</title><h1>All nights</h1><a href="/calendar?month=1">January</a>',
        headers=hidden,
    )
