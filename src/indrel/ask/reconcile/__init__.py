"""Outside lists compared with a snapshot: an engine's export, or a server's log."""
