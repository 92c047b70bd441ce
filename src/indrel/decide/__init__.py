"""From facts to decisions: states, wants, kinds and sections of every address."""
