"""One answer's bytes and headers to facts."""
