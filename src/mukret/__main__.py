"""`python -m mukret`."""

from mukret.cli.main import run

run()
