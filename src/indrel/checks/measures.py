"""Every threshold of the catalogue, once."""

from __future__ import annotations

from datetime import timedelta

from indrel.core.page.facts import SHELL_WORDS

NEARLY_ALL = 0.9
MANY = 5
A_SECTION = 10
"""Pages from which on it is worth a question why a whole section is kept out."""

A_SHARE = 0.1
"""A share of the pages read: a link on more of them is in a template."""

FEW_WORDS = SHELL_WORDS
"""A page that only scripts fill has at most so many words: that scripts are needed."""

LIKE_WORDS = 0.1
"""Share of their words by which two pages with the same names may differ and still be the same page."""

SOON = timedelta(days=30)
"""A date that is nearer than this is reported."""

MOST_NAMED = 200
"""Other URLs that one finding lists."""
