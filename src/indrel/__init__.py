"""Indrel audits what search crawlers may fetch and list on a site, and names the line that decides it."""

__version__ = "0.1.0"
