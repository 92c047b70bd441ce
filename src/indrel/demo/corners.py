"""Corners of the demonstration site: pages that each show one mistake more, and what links and lists them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from indrel.demo.page import MAIN, Response, at, links, moved, page

if TYPE_CHECKING:
    from indrel.demo.site import Site

PREVIEW = "preview.sarnfell.example"
OUTFITTER = "https://shop.outfitter.example"

QUESTIONS = ("dogs", "firewood", "bikes", "groups", "water")
LISTED = (
    "/wardens-area/", "/archive/first-hut/", "/history/", "/membership/", "/rules/", "/volunteer/", "/insurance/",
    "/work-party-2020/", "/donate/card/", "/gift-aid/", "/cy/",
)  # fmt: skip
LINKED = (
    "/archive/", "/faq/", "/history/", "/membership/", "/rules/", "/volunteer/", "/insurance/", "/old/hut-list-2019/",
    "/rota/december/", "/documents/accounts-2025.pdf", "/wardens/login/", "/tag/ice/", "/routes/?sort=length",
    "/huts/low-byre/", "/members/rota/", "/thanks/", "/wardens-area/", "/work-party-2020/", "/stories/", "/cy/", "/scripted/",
    f"https://{PREVIEW}/",
)  # fmt: skip


def add_corners(site: Site) -> None:
    """Put the corners into the site."""
    put = site.pages
    put[at("/corners/")] = page("All corners", links([(href, href) for href in LINKED]), canonical=at("/corners/"))
    _wants(site)
    _directives(site)
    _canonicals(site)
    _links(site)
    # A copy for trying things out: the intent file declares it closed, and it is not.
    put[f"https://{PREVIEW}/"] = Response(
        b"<!doctype html><title>Preview</title><h1>Preview of next year's pages</h1><a href=/huts/>Huts</a>"
    )
    put[f"https://{PREVIEW}/huts/"] = Response(b"<!doctype html><title>Huts</title><h1>Huts next year</h1>")
    put[f"https://{PREVIEW}/robots.txt"] = Response(b"User-agent: *\nDisallow:\n", media_type="text/plain")


def _wants(site: Site) -> None:
    put = site.pages
    put[at("/members/rota/")] = page("Members' rota", "<p>Names and telephone numbers of all wardens.</p>")
    put[at("/old/hut-list-2019/")] = page("Hut list 2019", "<p>As it was.</p>")
    put[at("/rota/december/")] = page(
        "Rota for December", "<p>Who looks in where.</p>", canonical=at("/rota/december/")
    )
    put[at("/documents/accounts-2025.pdf")] = Response(b"%PDF-1.4\n", media_type="application/pdf")
    put[at("/wardens/login/")] = page("Wardens", '<form><input name="who"><input type="password" name="word"></form>')
    put[at("/wardens-area/")] = Response(b"wardens only\n", 403, "text/plain")
    put[at("/tag/ice/")] = page("About ice", "<p>No entries yet.</p>", canonical=at("/tag/ice/"))
    put[at("/routes/?sort=length")] = page("Routes by length", links([("/routes/beck-way/", "Beck Way")]))
    put[at("/huts/low-byre/")] = page("Page not found", "<p>Sorry, nothing here.</p>")
    put[at("/thanks/")] = page("Thank you", "<p>Your gift is on its way to a stove.</p>", canonical=at("/thanks/"))


def _directives(site: Site) -> None:
    put = site.pages
    put[at("/archive/")] = page("Archive", links([("/archive/first-hut/", "The first hut")]), robots="none")
    put[at("/archive/first-hut/")] = page(
        "The first hut", "<p>Built in 1931 from the stones of a sheepfold.</p>", canonical=at("/archive/first-hut/")
    )
    put[at("/history/")] = page(
        "History", "<p>Ninety years of huts.</p>", canonical=at("/history/"), robots="noodp, max-snippet:0"
    )
    put[at("/membership/")] = page(
        "Membership",
        "<p>Join for a year or for life.</p>",
        canonical=at("/membership/"),
        head='<meta property="robots" content="noindex">',
    )
    put[at("/rules/")] = page(
        "Rules of the huts", "<p>Sweep, close the damper, latch the door.</p>", canonical=at("/rules/"),
        robots="indexifembedded",
    )  # fmt: skip
    put[at("/work-party-2020/")] = page(
        "Work party 2020", "<p>Thanks to all who carried.</p>", canonical=at("/work-party-2020/"),
        robots="unavailable_after: 2020-12-31",
    )  # fmt: skip
    put[at("/volunteer/")] = page(
        "Volunteer", "<p>Two days a year are enough.</p>", canonical=at("/volunteer/"), robots="nofollow"
    )
    put[at("/legal/gone-terms/")] = Response(
        b"", 301, "text/plain", (("Location", "/legal/terms/"), ("X-Robots-Tag", "noindex"))
    )
    high = put[at("/routes/high-cairns/")]
    hidden = high.body.replace(b"</title>", b'</title>\n<meta name="robots" content="noindex">', 1)
    site.as_crawler["bingbot", "/routes/high-cairns/"] = Response(hidden, headers=high.headers)


def _canonicals(site: Site) -> None:
    put = site.pages
    stories = {
        "unfinished": '<link rel="canonical" href="">',
        "first-night": '<link rel="canonical" href="first-night/">',
        "ravens": f'<link rel="canonical" href="{at("/stories/ravens/")}#top">',
        "long-way": f'<link rel="canonical" href="{at("/stories/short-way/")}">',
        "short-way": f'<link rel="canonical" href="{at("/stories/way/")}">',
        "way": f'<link rel="canonical" href="{at("/stories/way/")}">',
        "morning": f'<link rel="canonical" href="{at("/stories/evening/")}">',
        "evening": f'<link rel="canonical" href="{at("/stories/morning/")}">',
        "reprint": '<link rel="canonical" href="https://hills.example/reprint/">',
        "draft": '<link rel="canonical" href="http://localhost:8080/stories/draft/">',
        "plain": f'<link rel="canonical" href="http://{MAIN}/stories/plain/">',
        "snow": f'<link rel="canonical" href="{at("/stories/snow/")}">',
        "the-snow": f'<link rel="canonical" href="{at("/stories/the-snow/")}">',
    }
    for number, (name, tag) in enumerate(stories.items()):
        told = "snow" if name.endswith("snow") else name.replace("-", " ")
        text = (
            f"<p>The story of the {told}, told at the stove in winter {1990 + (0 if told == 'snow' else number)}.</p>"
        )
        put[at(f"/stories/{name}/")] = page(f"Story: {told}", text, head=tag)
    put[at("/stories/")] = page("Stories", links([(f"/stories/{n}/", n) for n in stories]), canonical=at("/stories/"))
    for question in QUESTIONS:  # the template prints the start page's address
        text = f"<p>May we bring {question}? Read what the wardens of each hut say about {question}.</p>"
        put[at(f"/faq/{question}/")] = page(f"Questions: {question}", text, canonical=f"https://{MAIN}/")
    put[at("/faq/")] = page(
        "Questions",
        links([(f"/faq/{q}/", q) for q in QUESTIONS] + [("/news/page/2/", "Older news")]),
        canonical=at("/faq/"),
    )
    put[at("/news/page/2/")] = page("News, page 2", "<p>Older news:</p>" + links([("/news/", "Newer news"), ("/faq/", "Questions")]),
                                  canonical=at("/news/"))  # fmt: skip
    put[at("/cy/")] = page(
        "Cabanau", "<p>Pedwar cwt ar ddeg.</p>", canonical=at("/cy/"),
        head=f'<link rel="alternate" hreflang="en" href="{at("/huts/over-sarn/?view=map")}">',
    )  # fmt: skip


def _links(site: Site) -> None:
    put = site.pages
    put[at("/insurance/")] = page(
        "Insurance",
        f'<p>Our partner <a href="{OUTFITTER}/">sells boots</a>; see also <a href="/membership/" rel="nofollow">membership</a>,'
        f' <a href="/rota/december/" rel="nofollow">the rota</a> and <a href="{OUTFITTER}/tents" rel="no-follow sponsored">'
        "tents</a>.</p><p><span onclick=\"location.href='/huts/'\">All huts</span></p>"
        '<div class="comments"><p>My own page: <a href="https://walker.example/">walker</a></p></div>',
        canonical=at("/insurance/"),
    )
    put[at("/donate/card/")] = moved("/donate/")
    put[at("/gift-aid/")] = page("Gift aid", "<p>Tick the box and we get more.</p>", canonical=at("/gift-aid/"))
    footer = '<a href="/archive/">Archive</a> <a href="/corners/">More</a> <a href="/legal/gone-terms/">Old terms</a>'
    for address, answer in list(put.items()):  # the footer of the whole site leads to a hidden page
        if address.startswith(f"https://{MAIN}/") and b"<footer>" in answer.body:
            put[address] = Response(
                answer.body.replace(b"<footer>", b"<footer>" + footer.encode() + b" ", 1), answer.status, answer.media_type,
                answer.headers,
            )  # fmt: skip
