"""Sitemaps of any form: XML, index, gzip, text, RSS and Atom."""

from indrel.core.sitemap.read import USUAL, Child, Entry, SitemapReader, SitemapSummary

__all__ = ["USUAL", "Child", "Entry", "SitemapReader", "SitemapSummary"]
