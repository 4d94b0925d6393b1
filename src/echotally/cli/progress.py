"""Progress on standard error, on terminals only, and what comes before a simulation."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib import import_module
from pathlib import Path
from threading import Thread
from typing import Any

from echotally.cli import saying
from echotally.engine.compiling import first_time, takes_about_s


def prepare_simulation(shows: str | None = None) -> None:
    """Say why the very first run takes longer, once. ``shows``: the module that shows the answer, which is imported meanwhile."""
    if first_time():
        saying.note(
            f"First run here: compiling the simulation (about {takes_about_s()} s, once; later runs start at once) ..."
        )
    if shows:
        _brings_meanwhile(shows)


def _brings_meanwhile(module: str) -> None:
    """Import a module beside what follows: while kernels play they leave the interpreter to others."""

    def bring() -> None:
        # Whoever needs it imports it again, and hears what is wrong.
        with suppress(Exception):
            import_module(module)

    Thread(target=bring, name=f"import {module}").start()


@contextmanager
def progress_line() -> Iterator[Any]:
    """A function (what, share) that keeps one line of progress with the time left; silent off terminals."""
    if not saying.shows_progress():
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


@contextmanager
def keeping_points(store: Path | None) -> Iterator[None]:
    """While points are played: an interruption says how many are kept, and how to go on."""
    from echotally.cli.interrupting import keeping

    def kept() -> str:
        if store is None:
            return "nothing half done was kept; --store FILE keeps points as they are done."
        import sqlite3

        with sqlite3.connect(f"{store.absolute().as_uri()}?mode=ro", uri=True) as database:
            (count,) = database.execute("SELECT count(*) FROM point").fetchone()
        return f"{count:,} point(s) are kept in {store}, and the same command goes on from there."

    with keeping(kept):
        yield
