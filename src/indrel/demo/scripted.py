"""Pages of the demonstration site that scripts fill or change: some as they should, some not (`indrel demo --render` tells)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from indrel.demo.page import API, Response, at, links, page

if TYPE_CHECKING:
    from indrel.demo.site import Site

_SCRIPT = "text/javascript"
_PHOTOS = ("first-snow", "roof-day", "the-old-stove", "ring-of-cairns", "dawn-from-nab-edge", "a-full-platform")
_OFFLINE = b"""navigator.serviceWorker && navigator.serviceWorker.register('/offline-worker.js')
"""
_WORKER = b"""// The trip planner lives on walkers' own devices: it works where there is no signal.
self.addEventListener('install', () => self.skipWaiting())
self.addEventListener('activate', (event) => event.waitUntil(clients.claim()))
self.addEventListener('fetch', (event) => {
  if (!event.request.url.endsWith('/plan/')) return
  const page = '<!doctype html><title>Plan a trip</title><main><h1>Plan a trip</h1><p>Choose a first hut, the nights and how far ' +
    'you like to walk in a day: the planner strings huts and routes together.</p></main>'
  event.respondWith(new Response(page, { headers: { 'content-type': 'text/html' } }))
})
"""
_BOARD = f"""const board = document.getElementById('board')
fetch('https://{API}/v1/board').then((answer) => answer.json()).then((told) => {{
  board.textContent = told.huts.join(', ')
}}).catch(() => {{ board.textContent = 'The conditions could not be loaded. Please try again later.' }})
""".encode()
_WALL = b"""let more = JSON.parse(document.getElementById('wall').dataset.more)
new IntersectionObserver((seen) => {
  if (!seen[0].isIntersecting) return
  for (const name of more.splice(0)) document.getElementById('wall').insertAdjacentHTML(
    'beforeend', `<p><a href="/photos/${name}/">${name}</a></p>`)
}).observe(document.getElementById('end'))
"""
_WEATHER = b"""document.querySelector('link[rel=canonical]').setAttribute('href', '/weather-map/')
fetch('/data/weather.json').then((answer) => answer.json()).then((told) => {
  document.getElementById('map').textContent = told.text
})
document.body.insertAdjacentHTML('beforeend', `<div role="dialog" style="position:fixed;inset:0;background:#fff">
<p>Sorry, an error occurred with your choice of cookies. Please try again later.</p></div>`)
"""
_APP = b"""fetch('/data/rota.json').then((answer) => answer.json()).then((weeks) => {
  document.title = 'Who looks in when'
  document.getElementById('app').innerHTML = '<main><h1>Who looks in when</h1><p>Every hut has a warden for the week, ' +
    'and a second one within a call.</p>' + weeks.map((week) => `<a href="/lookout/week-${week}/">Week ${week}</a>`).join(' ') + '</main>'
})
"""


def add_scripted(site: Site) -> None:
    """Put them into the site."""
    put = site.pages
    told = {
        "/live/": "Conditions now", "/plan/": "Plan a trip", "/photos/": "The photo wall", "/hut-finder/": "Find a hut",
        "/work-parties/": "Work parties", "/guides/": "Guides", "/weather-map/": "Weather map", "/lookout/": "Who looks in when",
    }  # fmt: skip
    put[at("/scripted/")] = page("Boards, maps and planners", links(list(told.items())), canonical=at("/scripted/"))
    for name, script in (
        ("offline", _OFFLINE), ("board", _BOARD), ("wall", _WALL), ("weather", _WEATHER), ("lookout", _APP),
        ("finder", b"location.replace('/huts/')\n"),
        ("trial", b"document.head.insertAdjacentHTML('beforeend', '<meta name=\"robots\" content=\"noindex\">')\n"),
        ("guides", b"document.querySelector('link[rel=canonical]').href = location.origin + '/'\n"),
    ):  # fmt: skip
        put[at(f"/assets/{name}.js")] = Response(script, media_type=_SCRIPT)
    put[at("/offline-worker.js")] = Response(_WORKER, media_type=_SCRIPT)
    put[at("/data/weather.json")] = Response(
        b'{"text": "Cloud down to the huts in the west, clear above Nab Edge."}', media_type="application/json"
    )
    put[at("/data/rota.json")] = Response(b"[48, 49, 50]", media_type="application/json")
    _pages(site)


def _pages(site: Site) -> None:
    put = site.pages

    def scripted(path: str, title: str, body: str, script: str) -> None:
        put[at(path)] = page(title, body + f'\n<script src="/assets/{script}.js"></script>', canonical=at(path))

    # What the board shows comes from the data host, whose robots.txt blocks everything.
    scripted("/live/", "Conditions now", '<p id="board">Loading</p>', "board")
    more = str(list(_PHOTOS)).replace("'", '"')
    scripted(
        "/photos/", "The photo wall",
        "<p>Members send us pictures of huts in every weather; the newest come first, and there is no end to them.</p>"
        f"<div id=\"wall\" data-more='{more}'></div><div style=\"height:240vh\"></div><div id=\"end\">.</div>", "wall",
    )  # fmt: skip
    for name in _PHOTOS:
        text = f"<p>{name.replace('-', ' ')}, sent in by a member who was there; click for the whole of it.</p>"
        put[at(f"/photos/{name}/")] = page(f"Photo: {name}", text, canonical=at(f"/photos/{name}/"))
    scripted(
        "/hut-finder/",
        "Find a hut",
        "<p>Tell us where you start, and we name the nearest hut with a stove.</p>",
        "finder",
    )
    scripted(
        "/work-parties/",
        "Work parties",
        "<p>Carry timber, sweep flues and dig drains with us on two weekends a month.</p>",
        "trial",
    )
    scripted(
        "/guides/",
        "Guides",
        "<p>Members who know the hills in fog walk with you for the price of a supper.</p>",
        "guides",
    )
    scripted(
        "/weather-map/",
        "Weather map",
        '<p>Updated each hour from the huts\' own masts.</p><p id="map">Loading</p>',
        "weather",
    )
    shell = b'<!doctype html>\n<html lang="en">\n<head>\n<title>Rota</title>\n</head>\n<body><div id="app"></div>\n'
    put[at("/lookout/")] = Response(shell + b'<script src="/assets/lookout.js"></script></body>\n</html>\n')
    for week in (48, 49, 50):
        put[at(f"/lookout/week-{week}/")] = page(
            f"Week {week}",
            f"<p>In week {week} the warden of the day sleeps at hut {week % 14}.</p>",
            canonical=at(f"/lookout/week-{week}/"),
        )
    # The planner is not on the server: a worker that the start page sets up answers for it.
    start = put[at("/")]
    put[at("/")] = Response(
        start.body.replace(b"</body>", b'<script src="/assets/offline.js"></script>\n</body>', 1), start.status, start.media_type,
        start.headers,
    )  # fmt: skip
