"""``echotally follow``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from echotally.cli import commands, names, options
from echotally.cli.numbers import Whole
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver

_QUESTIONS = {
    "slowest": "The event that took longest until it was handled (the default).",
    "median": "The one in the middle.",
    "lost": "The first that was lost, expired or too large.",
    "throttled": "The one that was throttled most often.",
    "dead-letter": "The first that went to a dead letter.",
    "coldest": "The one that waited longest for an instance to start.",
}


def _questions(command: Any) -> Any:
    """A flag for each thing that may have happened to an event."""
    # The last to be put on a command stands first in its help.
    for name, text in reversed(_QUESTIONS.items()):
        command = click.option(f"--{name}", "happened", flag_value=name, help=text)(command)
    return command


@commands.command(
    epilog="Example: echotally follow river-watch/river.toml --plan heron.per-run --slowest --function send-text"
)
@options.model_argument
@options.set_option
@click.option(
    "--plan",
    type=names.PLAN,
    metavar="CARD.PLAN",
    help="The plan to play the month on (default: the one project picks).",
)
@click.option(
    "--event",
    metavar="PLACE[@ENV]:N",
    help="The N-th event of a demand or source, such as demand.gauges:1200, schedules.nightly:3 or queues.sms.backlog:1.",
)
@click.option(
    "--at", metavar="TIME", help="The first event at --source from this local time on, such as 2027-03-14T06:10."
)
@_questions
@click.option("--source", metavar="PLACE[@ENV]", help="Where to look: only events of this source or demand.")
@click.option("--function", type=names.FUNCTION, metavar="NAME", help="Whose to look at: only events of this function.")
@click.option(
    "--depth",
    type=Whole(0, 1_000),
    default=4,
    show_default=True,
    help="Generations of output shown in the table.",
)
@click.option("--most", type=Whole(1, 20_000), default=25, show_default=True, help="Most events shown in the table.")
@click.option(
    "--exact",
    is_flag=True,
    help="Follow in a month of however many events, and however many wait at once; it is played twice.",
)
@options.seed_option
@options.format_option("table", "json", "csv", "markdown", "otlp")
@options.plot_option
@options.width_option
@options.out_option
def follow(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    plan: str | None,
    event: str | None,
    at: str | None,
    happened: str | None,
    source: str | None,
    function: str | None,
    depth: int,
    most: int,
    exact: bool,
    seed: int | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Follow one event of MODEL through the estate: where its time went, who was in the way, what it cost."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import follow_view as shown
    from echotally.output.studies.follow_chart import follow_chart
    from echotally.output.studies.follow_spans import follow_otlp
    from echotally.studies.follow import Which
    from echotally.studies.follow import follow as ask

    # Of two questions one would silently not be asked.
    if sum(1 for each in (event, at, happened) if each) > 1:
        raise click.UsageError("one event at a time: --event, --at, or one of the questions such as --slowest")
    if at and not source:
        raise click.UsageError("--at needs --source, the place at which it came")
    options.only_where(not event, "with --event, which names its place", "source", "function")
    options.only_where(not at, "with --at, which looks at a place", "function")
    check_plot_path(plot)
    prepare_simulation()
    with progress_line() as progress:
        # Nothing asked is the question people have most often.
        which = Which(event, at, source, function, happened or (None if event or at else "slowest"))
        found = ask(model, which, plan, sets=sets, seed=seed, exact=exact, progress=progress)
    if plot:
        write_whole(plot, follow_chart(found, plot.suffix[1:]))
    if form == "otlp":
        deliver(follow_otlp(found), out)
        return
    colour = False if out else None
    text = in_form(form, lambda: shown.follow_text(found, width, colour, depth, most), lambda: shown.follow_json(found))
    deliver(text, out)
