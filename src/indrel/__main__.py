"""`python -m indrel`."""

from indrel.cli.app import main

main()
