"""``echotally forecast``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, names, options
from echotally.cli.numbers import Whole
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally forecast river-watch/river.toml --months 12 --plot fan.png")
@options.model_argument
@options.set_option
@click.option("--months", type=Whole(1, 120), default=12, show_default=True, help="Months, from the model's own.")
@click.option(
    "--draws", type=Whole(1, 100_000), default=1_000, show_default=True, help="Draws of the uncertain inputs."
)
@click.option(
    "--plan", "plans", type=names.PLAN, multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated."
)
@options.by_option
@options.seed_option
@options.cluster_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@click.option(
    "--chart",
    type=click.Choice(["fan", "tornado"]),
    default="fan",
    show_default=True,
    help="What --plot draws: costs month by month, or what moves the cost.",
)
@options.width_option
@options.out_option
def forecast(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    months: int,
    draws: int,
    plans: tuple[str, ...],
    by: str | None,
    seed: int | None,
    cluster: str | None,
    form: str,
    plot: Path | None,
    chart: str,
    width: int | None,
    out: Path | None,
) -> None:
    """Look ahead from the month of MODEL: growth, month lengths and uncertainty, on every plan."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import forecast_view as shown
    from echotally.studies.forecast import forecast as look_ahead

    check_plot_path(plot)
    options.only_where(plot, "without --plot", "chart")
    prepare_simulation()
    with progress_line() as tell:
        found = look_ahead(model, months, draws, sets, plans=plans, seed=seed, progress=tell, by=by, cluster=cluster)
    if plot:
        write_whole(plot, shown.forecast_chart(found, chart, plot.suffix[1:]))
    text = in_form(
        form, lambda: shown.forecast_text(found, width, False if out else None), lambda: shown.forecast_json(found)
    )
    deliver(text, out)
