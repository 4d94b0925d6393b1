"""Writes results: to standard output, or to a file that appears whole or not at all."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from echotally.errors import BadInput, Problem


def write_whole(path: Path, content: bytes) -> None:
    """Write beside and rename into place, so that a failure leaves the old file or none."""
    try:
        handle, beside = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent or Path("."))
    except OSError as error:
        raise BadInput(Problem(f"cannot be written: {error.strerror}", file=str(path))) from error
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(beside, 0o644)
        os.replace(beside, path)
    except OSError as error:
        Path(beside).unlink(missing_ok=True)
        raise BadInput(Problem(f"cannot be written: {error.strerror}", file=str(path))) from error
    except BaseException:
        Path(beside).unlink(missing_ok=True)
        raise


def deliver(text: str, path: Path | None) -> None:
    """Put a text result into a file, or onto standard output."""
    if path is not None:
        write_whole(path, text.encode())
    else:
        sys.stdout.write(text)
        sys.stdout.flush()
