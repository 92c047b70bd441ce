"""robots.txt on its own: read from anywhere, checked, matched, compared. One question a module."""
