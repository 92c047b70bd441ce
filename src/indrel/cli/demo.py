"""`indrel demo`."""


def demo() -> None:
    """Audit the built-in demonstration site."""
