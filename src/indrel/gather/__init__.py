"""From bytes to rows: what every source shares when it fills a snapshot."""
