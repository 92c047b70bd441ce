"""Where pages come from. Each module yields the same facts; `open_source` chooses by what was named."""
