"""``echotally check``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import options
from echotally.output.writing import deliver


@click.command(epilog="Example: echotally check river-watch/river.toml")
@options.model_argument
@options.set_option
@click.option("--defaults", is_flag=True, help="Show every value in force, those left out of the file too.")
@options.out_option
def check(model: Path, sets: tuple[tuple[str, str], ...], defaults: bool, out: Path | None) -> None:
    """Find every mistake in MODEL and its rate cards; each error names file, line, address and remedy."""
    from echotally.output.checked import checked_text, defaults_text
    from echotally.projection.placement import load

    loaded = load(model, sets)
    deliver(defaults_text(loaded) if defaults else checked_text(loaded), out)
