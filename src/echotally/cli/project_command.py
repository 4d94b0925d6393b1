"""``echotally project``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import options
from echotally.cli.failing import MISSED
from echotally.cli.progress import note_first_compilation, progress_line
from echotally.output.writing import deliver


@click.command(epilog="Example: echotally project river-watch/river.toml --set functions.map.instance_limit=40")
@options.model_argument
@options.set_option
@click.option(
    "--plan",
    "plans",
    multiple=True,
    metavar="CARD.PLAN",
    help="Only this plan; alone, with its bill line by line. May be repeated.",
)
@click.option(
    "--explain",
    "explained",
    metavar="FUNCTION[@ENVIRONMENT]",
    help="Walk from events to money for one function, each step with its formula and numbers.",
)
@click.option("--by", metavar="SPLIT", help="Split the cost by function, environment, source or tag:NAME.")
@options.seed_option
@click.option("--gate", is_flag=True, help="Leave with exit code 3 if no plan meets every target.")
@options.format_option("table", "json")
@options.width_option
@options.out_option
def project(
    model: Path, sets: tuple[tuple[str, str], ...], plans: tuple[str, ...],
    explained: str | None, by: str | None, seed: int | None, gate: bool, form: str, width: int | None, out: Path | None,
) -> int:  # fmt: skip
    """Play the month of MODEL on every plan and compare: throttling, concurrency, waits and cost."""
    from echotally.projection.project import project as play

    note_first_compilation()
    with progress_line() as tell:
        result = play(model, sets, plans, seed, tell)
    if form == "json":
        from echotally.output.projection_json import projection_json

        deliver(projection_json(result, by), out)
    else:
        from echotally.output.projection_table import projection_text

        deliver(projection_text(result, width, False if out else None, explained, by), out)
    return MISSED if gate and result.pick is None else 0
