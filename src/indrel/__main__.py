"""`python -m indrel`."""

from indrel.cli.app import entry

entry()
