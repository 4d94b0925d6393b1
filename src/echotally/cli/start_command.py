"""``echotally start``."""

from __future__ import annotations

import json
from pathlib import Path
from shlex import quote

import click

from echotally.cli import commands
from echotally.files import write_whole


@commands.command(epilog="Example: echotally start my-estate")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
def start(folder: Path) -> None:
    """Write a commented model and rate card into FOLDER, ready to be changed, and their JSON Schemas for editors."""
    from echotally.demo import write_example
    from echotally.model.json_schema import model_schema
    from echotally.rates.json_schema import rates_schema

    for path in write_example("starter", folder):
        click.echo(f"wrote {path}")
    for name, schema in (("model.schema.json", model_schema()), ("rates/rates.schema.json", rates_schema())):
        write_whole(folder / name, (json.dumps(schema, indent=2) + "\n").encode())
        click.echo(f"wrote {folder / name}")
    typed = quote(str(folder / "model.toml"))
    click.echo(f"\nNext: echotally check {typed}\n      echotally project {typed}")
