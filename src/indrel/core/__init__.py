"""The pure part: bytes and values in, values out. No network, disk, clock or printing."""
