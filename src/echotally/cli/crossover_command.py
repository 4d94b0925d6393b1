"""``echotally crossover``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, names, options
from echotally.cli.progress import keeping_points, prepare_simulation, progress_line
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


def _bounds(ctx: click.Context, param: click.Parameter, text: str | None) -> tuple[float, float] | tuple[None, None]:
    if text is None:
        return None, None
    low, dots, high = text.partition("..")
    try:
        return float(low), float(high if dots else "x")
    except ValueError as error:
        raise click.BadParameter(f"'{text}' is not LOW..HIGH such as 0.01..100") from error


@commands.command(
    epilog="Example: echotally crossover river-watch/river.toml --scale 0.3..3 --plan heron.shared --plan osier.fixed"
)
@options.model_argument
@options.set_option
@click.option(
    "--scale",
    callback=_bounds,
    metavar="LOW..HIGH",
    help="Multiples of today's demand; left out: 0.01..100, or as far of that as is soon played.",
)
@click.option(
    "--plan", "plans", type=names.PLAN, multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated."
)
@options.by_option
@options.study_options
@options.seed_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def crossover(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    scale: tuple[float, float] | tuple[None, None],
    plans: tuple[str, ...],
    by: str | None,
    workers: int | None,
    store: Path | None,
    cluster: str | None,
    seed: int | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Show what each plan costs as volume grows, and where another plan becomes the cheaper one."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import crossover_view as shown
    from echotally.studies.crossover import crossover as ask

    check_plot_path(plot)
    prepare_simulation()
    with progress_line() as tell, keeping_points(store):
        found = ask(
            model,
            scale[0],
            scale[1],
            plans,
            sets=sets,
            seed=seed,
            workers=workers or -1,
            store=store,
            cluster=cluster,
            progress=tell,
            by=by,
        )
    if plot:
        write_whole(plot, shown.crossover_chart(found, plot.suffix[1:]))
    text = in_form(
        form, lambda: shown.crossover_text(found, width, False if out else None), lambda: shown.crossover_json(found)
    )
    deliver(text, out)
