"""``echotally sweep``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, names, options
from echotally.cli.progress import keeping_points, prepare_simulation, progress_line
from echotally.files import write_whole
from echotally.output.base.exports import csv_text, in_form
from echotally.output.base.writing import deliver


@commands.command(
    epilog="Example: echotally sweep river-watch/river.toml --vary 'functions.look.memory=1280 MB,2 GB,3 GB' --plan heron.shared"
)
@options.model_argument
@options.set_option
@click.option(
    "--vary",
    type=names.ADDRESS,
    multiple=True,
    required=True,
    metavar="ADDRESS=VALUES",
    help="Values a,b,c or a range lo..hi:steps, evenly or with :log. Repeated: every combination.",
)
@click.option(
    "--plan", "plans", type=names.PLAN, multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated."
)
@click.option(
    "--best",
    type=click.Choice(["cost", "wait", "throttled"]),
    default="cost",
    show_default=True,
    help="What the best point is judged by, under the targets.",
)
@options.by_option
@options.study_options
@options.seed_option
@options.format_option("table", "json", "csv", "markdown", also=(".parquet",))
@options.plot_option
@options.width_option
@options.out_option
def sweep(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    vary: tuple[str, ...],
    plans: tuple[str, ...],
    best: str,
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
    """Project MODEL at every combination of values, on every plan: the best point, the good ones, a chart.

    With -o FILE.parquet the table is written as Parquet. --store keeps finished points: after an interruption
    the same command goes on from there.
    """
    from echotally.output.base.charts import check_plot_path
    from echotally.output.base.frames import parquet
    from echotally.output.studies import sweep_view as shown
    from echotally.studies.sweep import sweep as ask

    check_plot_path(plot)
    prepare_simulation()
    with progress_line() as tell, keeping_points(store):
        found = ask(
            model,
            vary,
            sets,
            plans,
            objective=best,
            seed=seed,
            workers=workers or -1,
            store=store,
            cluster=cluster,
            progress=tell,
            by=by,
        )
    if plot:
        write_whole(plot, shown.sweep_chart(found, plot.suffix[1:]))
    if out and out.suffix == ".parquet":
        write_whole(out, parquet(found.to_frame()))
    elif form == "csv":
        deliver(csv_text(found.to_frame()), out)
    else:
        text = in_form(
            form, lambda: shown.sweep_text(found, width, False if out else None), lambda: shown.sweep_json(found)
        )
        deliver(text, out)
