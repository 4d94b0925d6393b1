"""Delivers results: to standard output, or to a file that appears whole or not at all."""

from __future__ import annotations

import sys
from pathlib import Path

from echotally.errors import safe_lines
from echotally.files import write_whole


def deliver(text: str, path: Path | None) -> None:
    """Put a text result into a file, made safe, or onto standard output, which makes it so (``cli.streams``)."""
    if path is not None:
        write_whole(path, safe_lines(text).encode())
    else:
        sys.stdout.write(text)
        sys.stdout.flush()
