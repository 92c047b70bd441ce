"""What a page is, by its address, structured data and markup. A wrong kind is worse than `other`.

Rules are tried in order, the first that holds decides; each keeps its reason. Address rules are
RE2 patterns on path and query in lower case.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from indrel.base.sqltext import quoted_list
from indrel.core.address import split
from indrel.core.intent import ASSETS
from indrel.core.model import Want
from indrel.core.page.archives import ARCHIVE_PATHS
from indrel.core.page.facts import Mark
from indrel.core.page.headers import PAGE_TYPES


class KindRule(NamedTuple):
    """One rule: the kind, what tells it (an address pattern, or SQL over page columns), and the reason in words."""

    kind: str
    because: str
    address: str = ""
    sql: str = ""


READ = "html"
NOT_HTML = f"NOT {READ}"
_PAGE = r"(\.(html?|xhtml|shtml|php[0-9]?|aspx?|jspx?|cfm|cgi|pl|do|action))?"
"""How a page's address may end: `THANKS.gz` among a program's documents thanks no customer."""

_A_PAGE = f"(html OR coalesce(media_type, '') IN ({quoted_list(['', *PAGE_TYPES])}))"
_PASSWORD = f"(NOT {READ} OR marks & {int(Mark.PASSWORD)} > 0)"

NUMBERED = r"/page/[0-9]+(\.html?)?/?(\?|$)|/index[0-9]+\.html?$|[?&](page|paged)=[0-9]+(&|$)"
"""Addresses of numbered pages; what they have as their canonical is not wanted by that alone."""

SEARCHED = "s|q|query"
VARYING = "replytocom|sort|sortby|sort_by|order|orderby|order_by|session_?id|phpsessid|jsessionid|sid|utm_[a-z]+|gclid|fbclid|msclkid"
"""Parameters that tell search results, and a reply, sort, session or tracking variant, as RE2 patterns of their names."""

RULES = (
    KindRule("start", "it is the home page of its host", sql="start"),
    KindRule("feed", "its content type is a feed's", sql="media_type IN ('application/rss+xml', 'application/atom+xml')"),
    KindRule("feed", "its URL is that of a feed", r"(/feed/?|/rss/?|\.rss|/atom\.xml|/rss\.xml|/feed\.xml)$", NOT_HTML),
    KindRule("document", "its content type is a document's",
             sql="(media_type = 'application/pdf' OR media_type LIKE 'application/%document%')"),
    KindRule("document", "its URL ends like that of a document",
             r"\.(pdf|docx?|xlsx?|pptx?|odt|ods|odp|rtf|epub|csv|txt)(\?|$)", NOT_HTML),
    KindRule("page-copy", "it is a view of another page (history, difference, edit form ...), as several pages have one", sql="copied"),
    KindRule("search-results", "its URL has a search term", rf"^/(.*/)?search{_PAGE}/?\?.*=|^/search/[^/?.]+/?$|[?&]({SEARCHED})="),
    KindRule("cart", "its URL is that of a cart or checkout", rf"^/(.*/)?(cart|basket|checkout){_PAGE}/?(\?|$)", _A_PAGE),
    KindRule("login", "its URL is that of a login",
             rf"^/(.*/)?(login|log-in|signin|sign-in|logout|wp-login){_PAGE}/?(\?|$)", _A_PAGE),
    KindRule("login", "its URL is that of an account, and it asks for a password",
             rf"^/(.*/)?(register|account|my-account){_PAGE}/?(\?|$)", _PASSWORD),
    KindRule("thank-you", "its URL is that of a thank-you page",
             rf"^/(.*/)?(thank-you|thanks|thankyou|order-received|order-confirmation){_PAGE}/?(\?|$)", _A_PAGE),
    KindRule("parameter-variant", "its URL has a reply, sort, session or tracking parameter",
             rf"[?&;]({VARYING})="),
    KindRule("embed", "its URL is that of a page for embedding elsewhere", r"/embed/?(\?|$)"),
    KindRule("numbered-page", "its URL has a page number", NUMBERED),
    KindRule("numbered-page", "it is a further part of a list: its number is one of a series under one name", sql="paged"),
    KindRule("parameter-variant", sql="variant",
             because="its canonical is the URL without its parameters, only it has noindex, or it shows the same content in another order"),
    KindRule("attachment", "its URL is that of an attachment", r"/attachment/[^/?]+/?$|[?&]attachment_id=[0-9]+"),
    KindRule("search-results", "its structured data declares it", sql="types LIKE '%|searchresultspage|%'"),
    KindRule("search-results", "a search form of the site leads to it", sql="searched"),
    KindRule("cart", "its structured data declares it", sql="types LIKE '%|checkoutpage|%'"),
    KindRule("login", "it is only a password form",
             sql=f"marks & {int(Mark.ONLY_PASSWORD)} > 0"),
    KindRule("tag-archive", "its URL is that of a tag", ARCHIVE_PATHS["tag-archive"]),
    KindRule("author-archive", "its URL is that of an author", ARCHIVE_PATHS["author-archive"]),
    KindRule("category", "its URL is that of a category", ARCHIVE_PATHS["category"]),
    KindRule("date-archive", "its URL is a date", ARCHIVE_PATHS["date-archive"]),
    KindRule("error", "it only says that there is nothing",
             sql=f"(marks & {int(Mark.SAYS_ERROR)} > 0 AND own_words < 60 AND status = 200)"),
    KindRule("listing", "its structured data is that of a list",
             sql="(types LIKE '%|collectionpage|%' OR types LIKE '%|itemlist|%' OR types LIKE '%|products|%')"),
    KindRule("product", "its structured data is that of a product",
             sql="(types LIKE '%|product|%' OR types LIKE '%|productgroup|%' OR types LIKE '%|og:product|%')"),
    KindRule("article", "its structured data is that of an article",
             sql="(types LIKE '%article|%' OR types LIKE '%|blogposting|%' OR types LIKE '%|og:article|%')"),
    KindRule("author-archive", "its structured data is that of a person's page", sql="types LIKE '%|profilepage|%'"),
    KindRule("template-fragment", "it is a piece of a page: no title, no html, head or body tag",
             sql=f"marks & {int(Mark.FRAGMENT)} > 0"),
)  # fmt: skip

ASSET_SQL = (
    f"(NOT html AND (regexp_matches(path, '{ASSETS}') OR regexp_matches(coalesce(media_type, ''), "
    "'^(image|font|audio|video)/|javascript|^text/css|^application/(json|wasm)')))"
)
"""Whether an address is none of a page's, over the columns `html`, `path` and `media_type`."""

JUNK = ("feed", "embed", "search-results", "cart", "login", "thank-you", "parameter-variant", "page-copy")
"""Kinds that are nearly always junk, and so unwanted where nothing says otherwise."""

ARCHIVES = ("listing", "category", "tag-archive", "author-archive", "date-archive", "numbered-page")
"""Kinds whose pages list others: without entries they are junk too."""

FOR_FEW = "backups?|private|secrets?|internal|confidential|intranet|invit(?:e|es|ation|ations)"
"""Words of a path that say that it is meant for few."""

PRIVATE = (
    rf"/({FOR_FEW}|members?|members?-(area|only)|accounts?|my-?account|admin)(/|[.]|[?]|$)"
    r"|[?&](token|access_token|auth|key|secret|password|invite)="
)
"""URLs whose words say that they are meant for few, over their lower-case path and parameters."""

OTHER = len(RULES)
_TELLING = re.compile(f"{SEARCHED}|{VARYING}")
_ALL_PATTERNS = "|".join(f"({r.address})" for r in RULES if r.address)


def rule_sql() -> str:
    """The number of the rule that decides, as SQL over path, start, media_type, status, html, types, marks, own_words,
    variant, searched, copied, paged."""
    return f"CASE WHEN start THEN 0 WHEN telling THEN {_cases()} ELSE {_cases(address=False)} END::UTINYINT"


def telling_sql(path: str) -> str:
    """Whether any address rule matches: most addresses need no more than this."""
    return f"regexp_matches(lower({path}), '{_ALL_PATTERNS}')"


def _cases(address: bool = True) -> str:
    cases = []
    for number, rule in enumerate(RULES):
        if rule.address and not address:
            continue
        conditions = [f"regexp_matches(lower(path), '{rule.address}')"] if rule.address else []
        conditions += [rule.sql] if rule.sql else []
        cases.append(f"WHEN {' AND '.join(conditions)} THEN {number}")
    return f"CASE {' '.join(cases)} ELSE {OTHER} END"


def kind_sql(rule: str) -> str:
    """The kind's name from the number of its rule."""
    names = quoted_list([*(r.kind for r in RULES), "other"])
    return f"([{names}])[{rule}::INTEGER + 1]"


def implied_want(kind: str) -> Want:
    """What is implied of an address by its kind alone."""
    return Want.HIDE if kind in JUNK else Want.ANY


def telling_parameter(names: Iterable[str]) -> str | None:
    """Of parameters' names the first that tells junk by itself, whatever stands beside it."""
    return min((name for name in map(str.lower, names) if _TELLING.fullmatch(name)), default=None)


def kind_of_address(url: str) -> str:
    """The kind that an address alone tells; `other` where it does not."""
    path = split(url).path.lower()
    if path == "/":
        return "start"
    return next((r.kind for r in RULES if r.address and re.search(r.address, path)), "other")


def why(rule: int) -> str:
    """The reason that a rule gives."""
    return RULES[rule].because if rule < OTHER else "nothing shows its kind"
