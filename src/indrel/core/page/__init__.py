"""One answer's octets and headers to facts."""
