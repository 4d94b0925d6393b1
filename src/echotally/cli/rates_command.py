"""``echotally rates show`` and ``echotally rates check``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import options
from echotally.output.writing import deliver

card_argument = click.argument("card", type=click.Path(path_type=Path))


@click.group(epilog="Example: echotally rates show river-watch/rates/heron.toml")
def rates() -> None:
    """Look at a rate card: what its plans limit and charge, and what is odd about it."""


@rates.command(epilog="Example: echotally rates show river-watch/rates/heron.toml")
@card_argument
@options.width_option
@options.out_option
def show(card: Path, width: int | None, out: Path | None) -> None:
    """Show the plans of CARD: limits, prices, allowances."""
    from echotally.output.rates_view import card_text
    from echotally.rates.loading import load_card

    deliver(card_text(load_card(card), width, False if out else None), out)


@rates.command(epilog="Example: echotally rates check river-watch/rates/osier.toml")
@card_argument
@click.option("--strict", is_flag=True, help="Leave with exit code 2 if anything is odd.")
@options.format_option("text", "json")
@options.out_option
def check(card: Path, strict: bool, form: str, out: Path | None) -> int:
    """Find mistakes in CARD: unknown meters, gaps in tiers, prices no bill can show, allowances without a price."""
    from echotally.cli.failing import BAD_INPUT
    from echotally.output.rates_view import oddities_json, oddities_text
    from echotally.rates.loading import load_card
    from echotally.rates.review import review_card

    found = review_card(load_card(card))
    deliver((oddities_json if form == "json" else oddities_text)(str(card), found), out)
    return BAD_INPUT if strict and found else 0
