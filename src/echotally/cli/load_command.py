"""``echotally load``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, names, options
from echotally.cli.numbers import Amount, Whole
from echotally.cli.progress import prepare_simulation
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


@commands.command(
    epilog="Example: echotally load river-watch/river.toml --function map --clients 1,5,50 --limit 1,2,20"
)
@options.model_argument
@options.set_option
@click.option("--function", "name", type=names.FUNCTION, required=True, metavar="NAME", help="The function to ask.")
@click.option(
    "--clients",
    required=True,
    callback=options.counts,
    multiple=True,
    metavar="N,N,...",
    help="Clients that ask, wait, and ask again.",
)
@options.limits_option
@click.option(
    "--calls",
    type=Whole(1, 100_000_000),
    default=1_000,
    show_default=True,
    help="Requests answered or refused a trial.",
)
@click.option("--seconds", type=Amount(min=0.001), help="End a trial after this many seconds at the latest.")
@click.option(
    "--warm-up",
    "warm_up",
    type=Amount(min=0),
    default=0.0,
    show_default=True,
    help="Seconds left out at the start.",
)
@click.option(
    "--think", default="0 s", show_default=True, help='Pause of a client after each answer, such as "200 ms".'
)
@click.option(
    "--pause", default="1 ms", show_default=True, help='Least pause of a client that was refused, such as "1 s".'
)
@click.option("--plan", type=names.PLAN, metavar="CARD.PLAN", help="Plan to run on (default: the one project picks).")
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def load(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    name: str,
    clients: tuple[int, ...],
    limits: tuple[int, ...],
    calls: int,
    seconds: float | None,
    warm_up: float,
    think: str,
    pause: str,
    plan: str | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Try a function of MODEL under load: throughput, latency, refusals, instances and cost for each number of clients and limit."""
    from echotally.model.spread import constant
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import trial_views as shown
    from echotally.studies.load_trial import load_trial

    check_plot_path(plot)
    prepare_simulation()
    thinking, pause_ns = constant(options.duration(None, None, think) or 0), options.duration(None, None, pause)
    found = load_trial(
        model,
        name,
        clients,
        limits or (None,),
        calls=calls,
        seconds=seconds,
        warm_up_s=warm_up,
        think=thinking,
        plan=plan,
        sets=sets,
        pause_ns=pause_ns,
    )
    if plot:
        write_whole(plot, shown.load_chart(found, plot.suffix[1:]))
    text = in_form(form, lambda: shown.load_text(found, width, False if out else None), lambda: shown.load_json(found))
    deliver(text, out)
