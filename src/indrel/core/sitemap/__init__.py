"""Sitemaps of any form: XML, index, gzip, text, RSS and Atom."""

from indrel.core.sitemap.read import USUAL, Child, Entry, SitemapReader, SitemapSummary, entry_fault

__all__ = ["USUAL", "Child", "Entry", "SitemapReader", "SitemapSummary", "entry_fault"]
