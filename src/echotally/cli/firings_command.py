"""``echotally firings``."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options
from echotally.cli.numbers import Whole
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.model.fields import FIRST_YEAR, LAST_YEAR
from echotally.output.base.writing import deliver
from echotally.parts import need

if TYPE_CHECKING:
    from echotally.evidence.telemetry.firing_check import FiringCheck
    from echotally.projection.loaded import Loaded


def _moment(text: str | None, option: str = "--from") -> datetime | None:
    if text is None:
        return None
    try:
        moment = datetime.fromisoformat(text)
    except ValueError as error:
        raise BadInput(
            Problem("is not a time", option, value=text, allowed="ISO 8601, such as 2027-03-01T00:00")
        ) from error
    if not FIRST_YEAR <= moment.year <= LAST_YEAR:
        raise BadInput(Problem("is out of range", option, value=text, allowed=f"years {FIRST_YEAR} to {LAST_YEAR}"))
    return moment


@commands.command(
    epilog='Examples: echotally firings river-watch/river.toml   |   echotally firings "30 2 * * *" --timezone Europe/Dublin'
)
@click.argument("what", metavar="MODEL|EXPRESSION")
@options.set_option
@click.option(
    "--timezone",
    type=names.ZONE,
    default="UTC",
    show_default=True,
    help="IANA zone of an expression; a model says its own.",
)
@click.option(
    "--from",
    "after",
    help="List firings strictly after this time, in the zone unless it has an offset (default: now; of a model, its month). "
    "With --log: look at firings from this time on (default: the first that could belong to the log).",
)
@click.option(
    "--count",
    type=Whole(0, 100_000),
    help="How many firings to list (default: 10); with --log: how many of those not as scheduled (default: 50).",
)
@click.option("--month", help="Month to count an expression in, YYYY-MM (default: the month of --from).")
@click.option(
    "--log",
    "logs",
    multiple=True,
    type=click.Path(path_type=Path),
    help="Lay the starts in this run log beside a schedule of MODEL: missed, late, extra. May be repeated.",
)
@click.option("--until", help="With --log: look at firings before this time (default: the log's last row).")
@click.option(
    "--schedule", type=names.SCHEDULE, metavar="NAME", help="With --log: which schedule (default: the only one)."
)
@click.option("--late", "late", default="1 min", show_default=True, help="With --log: a start is late after this long.")
@options.column_option
@click.option(
    "--cadences",
    is_flag=True,
    help="Of a month of more than two million events too, cost the same jobs at other cadences.",
)
@click.option("--seconds", is_flag=True, help="Read six fields as seconds first.")
@click.option(
    "--ics", type=click.Path(path_type=Path, dir_okay=False), help="Also write the listed firings as iCalendar."
)
@options.format_option("table", "json", "csv", "markdown", none="table of a model, JSON of an expression")
@options.plot_option
@options.width_option
@options.out_option
def firings(
    what: str,
    sets: tuple[tuple[str, str], ...],
    timezone: str,
    after: str | None,
    until: str | None,
    count: int | None,
    month: str | None,
    logs: tuple[Path, ...],
    schedule: str | None,
    late: str,
    columns: tuple[tuple[str, str], ...],
    cadences: bool,
    seconds: bool,
    ics: Path | None,
    form: str | None,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Show when schedules fire: of every schedule of MODEL, or of one EXPRESSION (cron, 'every 5 min', FREQ=...)."""
    from echotally.output.base.exports import in_form
    from echotally.output.model import firings_view as shown
    from echotally.output.model.firings_chart import firing_check_chart, firings_chart
    from echotally.projection.loaded import load

    colour = False if out else None
    # By its ending alone it is meant as a model: "no such file" helps, "no such rule" does not.
    of_model = what.endswith(".toml") or Path(what).is_file()
    _check_together(of_model, logs, plot, ics)
    if logs:
        loaded = load(Path(what), sets)
        found = _checked(loaded, logs, schedule, late, columns, (_moment(after), _moment(until, "--until")))
        if plot:
            write_whole(plot, firing_check_chart(loaded, found, plot.suffix[1:]))
        answer = in_form(
            form or "table",
            lambda: shown.check_text(found, width, colour, 50 if count is None else count),
            lambda: shown.check_json(found),
        )
        deliver(answer, out)
        return
    if of_model:
        from echotally.studies.firings import view_firings

        prepare_simulation()
        with progress_line() as tell:
            view = view_firings(
                what,
                sets,
                10 if count is None else count,
                _moment(after),
                cadences=cadences,
                progress=tell,
                aside=True,
            )
        previews = [(s.name, s.preview) for s in view.schedules]
        if plot:
            write_whole(plot, firings_chart(view.loaded, plot.suffix[1:]))
        text, data = partial(shown.firings_text, view, width, colour), partial(shown.firings_json, view)
    else:
        from echotally.demand.preview import preview_expression

        # Only here: a model says its own zone, and what is wrong with it by its address.
        options.check_zone(timezone)
        options.check_month(month)
        seen = preview_expression(what, timezone, _moment(after), 10 if count is None else count, month, seconds)
        previews = [("firing", seen)]
        text, data = partial(shown.preview_text, seen, width, colour), partial(shown.preview_json, seen)
        # An expression is mostly asked by other programs.
        form = form or "json"
    # Written before anything is said, so that a pipe that closes early loses no file.
    if ics:
        write_whole(ics, shown.calendar_bytes(previews))
    if form in ("csv", "markdown"):
        data = partial(shown.firings_rows, previews)
    deliver(in_form(form or "table", text, data), out)


def _check_together(of_model: bool, logs: tuple[Path, ...], plot: Path | None, ics: Path | None) -> None:
    """Refuse options that say nothing of what is asked: a model, an expression, or a log beside a schedule."""
    from echotally.output.base.charts import check_plot_path

    options.only_where(not of_model, "on a model, which says its own", "timezone", "month", "seconds")
    options.only_where(of_model, "on an expression", "sets", "logs", "cadences")
    options.only_where(logs, "without --log", "schedule", "late", "columns", "until")
    options.only_where(not logs, "with --log", "ics")
    options.only_where(of_model, "on an expression", "plot")
    check_plot_path(plot)
    if ics:
        need("icalendar")


def _checked(
    loaded: Loaded,
    logs: tuple[Path, ...],
    schedule: str | None,
    late: str,
    columns: tuple[tuple[str, str], ...],
    window: tuple[datetime | None, datetime | None],
) -> FiringCheck:
    from echotally.evidence.telemetry.firing_check import check_firings

    names = list(loaded.model.schedules)
    if schedule is None and len(names) != 1:
        raise BadInput(Problem("the model has several schedules or none", "--schedule", allowed=", ".join(names)))
    # The option has a default as people write it, and is read as they write it.
    tolerance_s = (options.duration(None, None, late) or 0) / 1e9
    return check_firings(
        loaded, schedule or names[0], logs, columns, tolerance_s=tolerance_s, after=window[0], until=window[1]
    )
