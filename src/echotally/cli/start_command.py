"""``echotally start``."""

from __future__ import annotations

from pathlib import Path

import click


@click.command(epilog="Example: echotally start my-estate")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
def start(folder: Path) -> None:
    """Write a commented model and rate card into FOLDER, ready to be changed."""
    from echotally.demo import write_example

    for path in write_example("starter", folder):
        click.echo(f"wrote {path}")
    click.echo(f"\nNext: echotally check {folder / 'model.toml'}\n      echotally project {folder / 'model.toml'}")
