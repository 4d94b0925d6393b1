"""``echotally rates show`` and ``echotally rates check``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, options
from echotally.files import write_whole
from echotally.output.base.writing import deliver

card_argument = click.argument("card", type=click.Path(path_type=Path))


class _Shows(commands.Group):
    """A card's name alone shows it."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """As the library does; a file's name where a command is expected means ``show``."""
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            args = ["show", *args]
        return super().parse_args(ctx, args)


@click.group(cls=_Shows, epilog="Example: echotally rates river-watch/rates/heron.toml")
def rates() -> None:
    """Look at a rate card: what its plans limit and charge, and what is odd about it."""


@rates.command(epilog="Example: echotally rates show river-watch/rates/heron.toml")
@card_argument
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def show(card: Path, form: str, plot: Path | None, width: int | None, out: Path | None) -> None:
    """Show the plans of CARD: limits, prices, allowances. As CSV or Markdown: its prices, a row a tier."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.base.exports import in_form
    from echotally.output.model.rates_view import card_json, card_text
    from echotally.rates.card_loading import load_card

    check_plot_path(plot)
    found = load_card(card)
    if plot:
        from echotally.output.model.rates_chart import rates_chart

        write_whole(plot, rates_chart(found, plot.suffix[1:]))
    text = in_form(form, lambda: card_text(found, width, False if out else None), lambda: card_json(found), "prices")
    deliver(text, out)


@rates.command(epilog="Example: echotally rates check river-watch/rates/osier.toml")
@card_argument
@click.option("--strict", is_flag=True, help="Leave with exit code 2 if anything is odd.")
@options.format_option("table", "json", "csv", "markdown")
@options.out_option
def check(card: Path, strict: bool, form: str, out: Path | None) -> int:
    """Find mistakes in CARD: unknown meters, gaps in tiers, prices no bill can show, allowances without a price."""
    from echotally.cli.failing import BAD_INPUT
    from echotally.output.base.exports import in_form
    from echotally.output.model.rates_view import oddities_json, oddities_text
    from echotally.rates.card_loading import load_card
    from echotally.rates.review import review_card

    found = review_card(load_card(card))
    path = str(card)
    text = in_form(form, lambda: oddities_text(path, found), lambda: oddities_json(path, found), "findings")
    deliver(text, out)
    return BAD_INPUT if strict and found else 0


@rates.command(
    epilog="Example: echotally rates compare river-watch/rates/heron.toml heron-april.toml --model river-watch/river.toml"
)
@click.argument("old", type=click.Path(path_type=Path))
@click.argument("new", type=click.Path(path_type=Path))
@click.option(
    "--model",
    required=True,
    type=click.Path(path_type=Path),
    help="The estate whose month is played and billed on both cards.",
)
@options.set_option
@options.format_option("table", "json", "csv", "markdown")
@options.width_option
@options.out_option
def compare(
    old: Path, new: Path, model: Path, sets: tuple[tuple[str, str], ...], form: str, width: int | None, out: Path | None
) -> None:
    """What does the NEW price list do to us? The model's month on it and on the OLD one, plan by plan and line by line."""
    from echotally.cli.progress import prepare_simulation, progress_line
    from echotally.output.base.exports import in_form
    from echotally.output.studies.card_change_view import card_change_json, card_change_text
    from echotally.studies.card_change import compare_cards

    prepare_simulation()
    with progress_line() as tell:
        found = compare_cards(old, new, model, sets, tell)
    text = in_form(
        form,
        lambda: card_change_text(found, width, False if out else None),
        lambda: card_change_json(found),
    )
    deliver(text, out)
