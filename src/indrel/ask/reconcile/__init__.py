"""Outside lists held against a snapshot: an engine's export, or a server's log."""
