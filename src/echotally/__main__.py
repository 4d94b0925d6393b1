"""``python -m echotally``."""

from echotally.cli.main import run

run()
