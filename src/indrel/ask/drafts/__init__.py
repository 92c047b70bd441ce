"""Drafts: proposed files, proven on every known address before they are given."""
