"""Sitemaps of any form: XML, index, gzip, text, RSS and Atom."""

from indrel.core.sitemap.read import USUAL, Child, Entry, SitemapReader, SitemapSummary, entry_fault
from indrel.core.sitemap.walk import READABLE, Found, SitemapWalk, announced, on_its_host, usual_folders

__all__ = [
    "READABLE", "USUAL", "Child", "Entry", "Found", "SitemapReader", "SitemapSummary", "SitemapWalk", "announced", "entry_fault",
    "on_its_host", "usual_folders",
]  # fmt: skip
