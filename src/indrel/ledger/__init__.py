"""A small book of what was asked of a search engine, and when."""

from indrel.ledger.book import Asked, Ledger, Removal, Request

__all__ = ["Asked", "Ledger", "Removal", "Request"]
