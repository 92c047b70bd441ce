"""Every threshold of the catalogue, once."""

from __future__ import annotations

from datetime import timedelta

NEARLY_ALL = 0.9
MANY = 5
A_SHARE = 0.1
"""Of the pages read: from here on a link is a template's."""

SOON = timedelta(days=30)
"""A date that lies nearer than this is told."""

MOST_NAMED = 200
"""Other addresses that one finding names."""
