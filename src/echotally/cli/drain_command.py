"""``echotally drain``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, names, options
from echotally.cli.numbers import Whole
from echotally.cli.progress import prepare_simulation
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally drain river-watch/river.toml --queue texts --backlog 30000 --limit 8,40")
@options.model_argument
@options.set_option
@click.option("--queue", type=names.QUEUE, required=True, metavar="NAME", help="The queue to drain.")
@click.option("--backlog", type=Whole(1, 20_000_000), required=True, help="Messages that wait at the start.")
@options.limits_option
@click.option(
    "--batch",
    "batches",
    callback=options.counts,
    multiple=True,
    metavar="N,N,...",
    help="Batch sizes (default: the model's).",
)
@click.option(
    "--within",
    callback=options.duration,
    metavar="DURATION",
    help='Also the largest backlog that is gone in this time, such as "5 min".',
)
@click.option(
    "--plan", "plans", type=names.PLAN, multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated."
)
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def drain(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    queue: str,
    backlog: int,
    limits: tuple[int, ...],
    batches: tuple[int, ...],
    within: int | None,
    plans: tuple[str, ...],
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Work off a backlog of a queue of MODEL: when it is empty, how long messages wait, how many instances, at what cost."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import trial_views as shown
    from echotally.studies.drain import drain as ask

    check_plot_path(plot)
    prepare_simulation()
    found = ask(
        model, queue, backlog, limits or (None,), batches=batches or (None,), plans=plans, within_ns=within, sets=sets
    )
    if plot:
        write_whole(plot, shown.drain_chart(found, plot.suffix[1:]))
    text = in_form(
        form, lambda: shown.drain_text(found, width, False if out else None), lambda: shown.drain_json(found)
    )
    deliver(text, out)
