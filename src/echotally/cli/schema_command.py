"""``echotally schema``."""

from __future__ import annotations

import json
from pathlib import Path

import click

from echotally.cli import commands, options
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally schema model -o model.schema.json")
@click.argument("what", type=click.Choice(["model", "rates"]))
@options.out_option
def schema(what: str, out: Path | None) -> None:
    """Print the JSON Schema of the model file or the rate card, for an editor's completion and hover help."""
    from echotally.model.json_schema import model_schema
    from echotally.rates.json_schema import rates_schema

    deliver(json.dumps(model_schema() if what == "model" else rates_schema(), indent=2) + "\n", out)
