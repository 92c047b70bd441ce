"""A browser that has no network of its own: what it asks for is judged, fetched and handed in by the audit."""
