"""Options that several commands share, each defined once with its unit, default and range."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

Command = TypeVar("Command", bound=Callable[..., Any])


def _pairs(ctx: click.Context, param: click.Parameter, values: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    pairs = []
    for text in values:
        address, equals, value = text.partition("=")
        if not equals or not address.strip():
            raise click.BadParameter(f"'{text}' is not ADDRESS=VALUE, such as functions.intake.memory=\"1 GB\"")
        pairs.append((address.strip(), value.strip()))
    return tuple(pairs)


model_argument = click.argument("model", type=click.Path(path_type=Path))
set_option = click.option(
    "--set", "sets", multiple=True, metavar="ADDRESS=VALUE", callback=_pairs,
    help='Override one value of the model, such as functions.intake.memory="1 GB". An empty VALUE takes it out. May be repeated.',
)  # fmt: skip
out_option = click.option(
    "-o",
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the result to this file instead of standard output.",
)
width_option = click.option(
    "--width", type=click.IntRange(40, 400), help="Columns of the table (default: the terminal's)."
)
seed_option = click.option(
    "--seed",
    type=click.IntRange(0, 2**63 - 1),
    help="Seed of the random numbers (default: the model's, else 1).",
)


def format_option(*formats: str) -> Callable[[Command], Command]:
    """``--format`` with the formats a command has; the first is the default."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(formats),
        default=formats[0],
        show_default=True,
        help="Form of the result.",
    )
