"""``echotally choose``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, options, saying
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import text_of, write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally choose river-watch/river.toml")
@options.model_argument
@options.set_option
@click.option(
    "--sizes/--no-sizes",
    default=True,
    show_default=True,
    help="Also look for the smallest memory, batch and instance limit.",
)
@click.option(
    "--commitment",
    is_flag=True,
    help="Also say which commitment an hour is the cheapest on plans that sell one: this month, over draws of the model's ranges, and what it loses when demand falls by a third.",
)
@click.option("--write", is_flag=True, help="Write the change into MODEL; comments and order stay.")
@options.by_option
@options.seed_option
@options.cluster_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def choose(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    sizes: bool,
    commitment: bool,
    write: bool,
    by: str | None,
    seed: int | None,
    cluster: str | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Find the cheapest plan for each function of MODEL, and sizes just large enough for the targets."""
    from echotally.model.writing import with_values
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import choose_view as shown
    from echotally.studies.choose import choose as ask
    from echotally.studies.choose import with_commitments

    check_plot_path(plot)
    prepare_simulation()
    with progress_line() as tell:
        found = ask(model, sets, seed, sizes, tell, cluster)
        found = with_commitments(found, seed, tell) if commitment else found
    if plot:
        write_whole(plot, shown.choose_chart(found, plot.suffix[1:]))
    text = in_form(
        form,
        lambda: shown.choose_text(found, width, False if out else None, by),
        lambda: shown.choose_json(found, by),
        "set",
    )
    deliver(text, out)
    if write and found.sets:
        write_whole(model, with_values(text_of(model), [*sets, *found.sets]).encode())
        saying.note(f"wrote {len(found.sets)} value(s) into {model}")
