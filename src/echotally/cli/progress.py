"""Progress on standard error, on terminals only, and what comes before a simulation."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import click

from echotally.engine.compiling import first_time


def prepare_simulation() -> None:
    """Say why the very first run takes longer, once."""
    if first_time():
        click.echo(
            "First run here: compiling the simulation (about 15 s, once; later runs start at once) ...",
            err=True,
        )


@contextmanager
def progress_line() -> Iterator[Any]:
    """A function (what, share) that keeps one line of progress with the time left; silent off terminals."""
    if not sys.stderr.isatty():
        yield None
        return
    began: dict[str, float] = {}
    shown = [0.0]

    def tell(what: str, done: float) -> None:
        now = time.monotonic()
        began.setdefault(what, now)
        # Short runs stay quiet; long ones are told about twice a second.
        if now - began[what] < 1.0 or now - shown[0] < 0.5 or done <= 0:
            return
        shown[0] = now
        left = (now - began[what]) / done * (1 - done)
        sys.stderr.write(f"\r\x1b[2K{what}: {done:4.0%}, about {left:,.0f} s left")
        sys.stderr.flush()

    try:
        yield tell
    finally:
        if shown[0]:
            sys.stderr.write("\r\x1b[2K")
            sys.stderr.flush()
