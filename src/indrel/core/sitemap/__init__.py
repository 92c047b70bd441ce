"""Sitemaps of any form: XML, index, gzip, text, RSS and Atom."""

from indrel.core.sitemap.read import Child, Entry, SitemapReader, SitemapSummary

__all__ = ["Child", "Entry", "SitemapReader", "SitemapSummary"]
