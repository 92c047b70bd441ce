"""The command line: the only part that prints. One module a command; heavy imports happen when a command runs."""
