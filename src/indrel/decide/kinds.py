"""What a page is, as far as its address and content type tell. A wrong kind is worse than `other`."""

from __future__ import annotations

from typing import NamedTuple


class Kind(NamedTuple):
    """One kind: the pattern (RE2, on path and query in lower case) that tells it, and whether it is nearly always junk."""

    name: str
    pattern: str
    junk: bool
    because: str


KINDS = (
    Kind("feed", r"(/feed/?|/rss/?|\.rss|/atom\.xml|/rss\.xml|/feed\.xml)$", True, "its address is a feed's"),
    Kind("search-results", r"^/(.*/)?search/?\?|^/(.*/)?search/.+|[?&](s|q|query)=", True,
         "its address carries a search"),
    Kind("cart", r"^/(.*/)?(cart|basket|checkout)(/|\?|\.|$)", True, "its address is a cart's or checkout's"),
    Kind("login", r"^/(.*/)?(login|log-in|signin|sign-in|logout|register|account|my-account|wp-login\.php)(/|\?|\.|$)", True,
         "its address is a login's or account's"),
    Kind("thank-you", r"^/(.*/)?(thank-you|thanks|thankyou|order-received|confirmation)(/|\?|\.|$)", True,
         "its address is a thank-you page's"),
    Kind("parameter-variant",
         r"[?&](replytocom|sort|order|orderby|session_?id|phpsessid|jsessionid|sid|utm_[a-z]+|gclid|fbclid)=",
         True, "its address has a reply, sort, session or tracking parameter"),
    Kind("numbered-page", r"/page/[0-9]+/?$|[?&](page|paged|p)=[0-9]+(&|$)", False, "its address has a page number"),
    Kind("tag-archive", r"^/(.*/)?tags?/[^/?]+/?$", False, "its address is a tag's"),
    Kind("author-archive", r"^/(.*/)?authors?/[^/?]+/?$", False, "its address is an author's"),
    Kind("category", r"^/(.*/)?(category|categories)/[^/?]+/?$", False, "its address is a category's"),
    Kind("date-archive", r"^/((blog|news|archives?)/)?(19|20)[0-9]{2}/([0-9]{2}/)?$", False, "its address is a date"),
)  # fmt: skip

DOCUMENTS = r"\.(pdf|docx?|xlsx?|pptx?|odt|ods|odp|rtf|epub|csv)$"
JUNK = tuple(k.name for k in KINDS if k.junk)


def kind_sql(path: str, media: str, start: str) -> str:
    """The kind of an address as an SQL expression over a path, a media type and whether it is the start page."""
    cases = [f"WHEN {start} THEN 'start'"]
    cases.append(f"WHEN {media} IN ('application/rss+xml', 'application/atom+xml') THEN 'feed'")
    cases.append(
        f"WHEN {media} = 'application/pdf' OR {media} LIKE 'application/%document%' "
        f"OR regexp_matches(lower({path}), '{DOCUMENTS}') THEN 'document'"
    )
    cases += [f"WHEN regexp_matches(lower({path}), '{k.pattern}') THEN '{k.name}'" for k in KINDS]
    return f"CASE {' '.join(cases)} ELSE 'other' END"
