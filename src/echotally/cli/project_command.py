"""``echotally project``."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from echotally.cli import commands, names, options, saying
from echotally.cli.failing import MISSED
from echotally.cli.numbers import Whole
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.output.base.writing import deliver
from echotally.parts import need
from echotally.projection.playing import Playing, PlayingWords

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date

    from echotally.projection.answer import Projection
    from echotally.projection.loaded import Loaded
    from echotally.projection.over_time import Stretch
    from echotally.projection.replicate import Replicated
    from echotally.projection.window import Window
    from echotally.rates.card_loading import Offer


_NO_COURSE = "without --series or a chart of the month's course"
#: Charts that --from and --until show closely.
CLOSE = ("dashboard", "levels", "backlog")


@commands.command(epilog="Example: echotally project river-watch/river.toml --set functions.map.instance_limit=20")
@options.model_argument
@options.set_option
@click.option(
    "--plan",
    "plans",
    type=names.PLAN,
    multiple=True,
    metavar="CARD.PLAN",
    help="Only this plan; alone, with its bill line by line. May be repeated.",
)
@click.option(
    "--explain",
    "explained",
    type=names.EXPLAINED,
    metavar="FUNCTION[@ENVIRONMENT]",
    help="Walk from events to money for one function, each step with its formula and numbers.",
)
@click.option(
    "--by",
    type=names.SPLIT,
    metavar="SPLIT,...",
    help="Split the cost by function, environment, source, tag:NAME or outcome (what failure, cold starts and idle time cost), or by several; FOCUS rows by day.",
)
@click.option(
    "--all-meters",
    is_flag=True,
    help="Show the bill of the plan with every meter it can bill, those that this month did not use too.",
)
@click.option(
    "--incidents",
    is_flag=True,
    help="Also say what each incident of the model cost, left behind and delayed, each against the month without it.",
)
@click.option(
    "--edges",
    is_flag=True,
    help="Also say at how many times today's demand each allowance, limit and target of a plan is reached.",
)
@options.so_far_options
@click.option("--unpinned", is_flag=True, help="Ignore the plans that functions are pinned to.")
@click.option(
    "--replications",
    type=Whole(2, 10_000),
    help="Play the month so many times with other seeds; every figure gets a mean and a 95 % interval.",
)
@click.option("--workers", type=Whole(1, 1_024), help="Cores for replications (default: all of them).")
@options.cluster_option
@click.option("--exact", is_flag=True, help="Simulate every event, however many there are.")
@click.option(
    "--sampled-from",
    type=Whole(min=0),
    metavar="EVENTS",
    help="Sample months of more expected events than this (default: 40 million, up to which a month is played exactly, unless half "
    "a million events wait in it).",
)
@click.option(
    "--series",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Also write hour by hour what happened on each plan (.csv or .parquet).",
)
@click.option(
    "--log",
    "run_log_path",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Also write the run log that one plan would leave: that of --plan, else the picked one. .csv or .parquet are rows; .otlp.json, or .otlp.jsonl with a request a line, are spans; .metrics.json are metrics; each also with .gz.",
)
@options.seed_option
@click.option("--gate", is_flag=True, help="Leave with exit code 3 if no plan meets every target.")
@options.format_option("table", "json", "csv", "markdown", "focus", also=(".xlsx", ".parquet"))
@click.option(
    "--level",
    type=click.Choice(["plans", "functions", "bill", "series"]),
    default="functions",
    show_default=True,
    help="Which rows CSV and Parquet hold: plans, functions and environments, the bill's lines, or hours.",
)
@options.window_options
@options.plot_option
@click.option(
    "--chart",
    type=click.Choice(
        ["cost", "outcome", "map", "dashboard", "waits", "edges", "landing", "levels", "backlog", "hours"]
    ),
    default="cost",
    show_default=True,
    help="What --plot draws: cost by plan, by meter or by what attempts came to (outcome); of the picked plan a map of the estate (map; without --plot as text), what operators look at together (dashboard), how long events wait and runs take (waits), how near allowances and limits are (edges, with --edges); where the month lands, day by day (landing, with --so-far); or, of one function, calls and instances over the month (levels), its backlog and oldest age, or arrivals by day and hour. --from and --until show dashboard, levels and backlog closely.",
)
@click.option(
    "--function",
    type=names.FUNCTION,
    metavar="NAME[@ENVIRONMENT]",
    help="Whose month --chart draws (default: the most throttled).",
)
@options.width_option
@options.out_option
def project(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    plans: tuple[str, ...],
    explained: str | None,
    by: str | None,
    all_meters: bool,
    incidents: bool,
    edges: bool,
    bill_so_far: Path | None,
    until: date | None,
    unpinned: bool,
    replications: int | None,
    workers: int | None,
    cluster: str | None,
    exact: bool,
    sampled_from: int | None,
    series: Path | None,
    run_log_path: Path | None,
    seed: int | None,
    gate: bool,
    form: str,
    level: str,
    from_: date | None,
    step: str | None,
    plot: Path | None,
    chart: str,
    function: str | None,
    width: int | None,
    out: Path | None,
) -> int:
    """Play the month of MODEL on every plan and compare: throttling, concurrency, waits and cost."""
    from echotally.output.base.frames import write_frame
    from echotally.projection.loaded import load
    from echotally.projection.tables import series_frame
    from echotally.projection.window import small_enough

    _check_files(series, run_log_path, plot)
    as_text = chart == "map" and plot is None and form == "table" and not _as_file(out)
    _check_chart(chart, plot or as_text, edges=edges, landing=bill_so_far is not None)
    options.only_where(plot, "without --plot", "function")
    closely = from_ is not None or step is not None
    options.only_where(series or (plot and chart in CLOSE), _NO_COURSE, "from_", "step")
    options.only_where(replications, "without --replications", "workers")
    options.only_where(not exact, "with --exact", "sampled_from")
    _fits_the_form(form, out)
    daily = _splits(form, by)
    options.only_where(bill_so_far or daily or closely, "without --so-far, --from, or --format focus --by day", "until")
    options.until_with(bill_so_far, until)
    loaded = load(model, sets)
    if unpinned:
        loaded = loaded.unpinned()
    prepare_simulation("echotally.output.projection.projection_table" if form == "table" else None)
    how: PlayingWords = {"exact": exact, "sampled_from": sampled_from}
    in_steps = closely or (plot is not None and chart == "dashboard")
    if in_steps:
        # Before it is played, which takes minutes of such a month.
        small_enough(loaded, loaded.chosen(plans), "--from" if closely else "--chart")
    if run_log_path:
        _small_enough_for_a_log(loaded, loaded.chosen(plans))
    result, replicated = _played(loaded, plans, seed, _Again(replications or 0, workers or -1, cluster), how)
    result = _with_incidents(loaded, result, how) if incidents else result
    result = _with_edges(loaded, result) if edges else result
    if bill_so_far and until:
        result = _landed(loaded, result, bill_so_far, until, plans)
    seen = _seen(loaded, result, from_, until, step, plans) if in_steps else None
    if series:
        write_frame(seen.to_frame() if seen and closely else series_frame(result), series)
    if run_log_path:
        _write_log(loaded, plans[0] if plans else result.pick or result.closest, seed, run_log_path)
    if plot:
        _draw(result, chart, plot, function, seen)
    if form == "table" and not _as_file(out):
        colour = False if out else None
        asked = {"explained": explained, "by": by, "all_meters": all_meters}
        deliver(_map(result, width, colour) if as_text else _table(result, width, colour, replicated, **asked), out)
    else:
        days = _days(loaded, result, until) if daily else ()
        _deliver_data(result, _Rows(form, level, None if daily else by, days), replicated, out)
    return _gate(result) if gate else 0


def _map(result: Projection, width: int | None, colour: bool | None) -> str:
    from echotally.output.projection.map_text import map_text

    return map_text(result, width, colour)


def _table(
    result: Projection, width: int | None, colour: bool | None, replicated: Replicated | None, **asked: Any
) -> str:
    from echotally.output.projection.bill_view import MoneyAsked
    from echotally.output.projection.projection_table import projection_text

    return projection_text(result, width, colour, replicated, MoneyAsked(**asked))


def _draw(result: Projection, chart: str, plot: Path, function: str | None, seen: Window | None) -> None:
    from echotally.output.projection.projection_charts import projection_chart

    write_whole(plot, projection_chart(result, chart, plot.suffix[1:], function, seen))


def _check_chart(chart: str, drawn: object, *, edges: bool, landing: bool) -> None:
    """A chart that is not drawn, or of what was not asked for, is refused before a month is played."""
    options.only_where(drawn, "without --plot", "chart")
    if drawn and chart == "edges" and not edges:
        raise click.UsageError("--chart edges needs --edges, which looks for them")
    if drawn and chart == "landing" and not landing:
        raise click.UsageError("--chart landing needs the bill so far: --so-far BILL --until DATE")


def _seen(
    loaded: Loaded, result: Projection, from_: date | None, until: date | None, step: str | None, plans: tuple[str, ...]
) -> Window | None:
    """The one plan's month step by step: that of --plan, else the picked or closest one."""
    from echotally.projection.answer import PlayedPlan
    from echotally.projection.window import Look, window

    plan = result.plan(plans[0]) if len(plans) == 1 else result.best
    if not isinstance(plan, PlayedPlan):
        raise BadInput(Problem("no plan can run this estate, so there is nothing to look at", "--from"))
    with progress_line() as tell:
        told = None if tell is None else partial(tell, "the stretch")
        return window(loaded, plan, Look(from_, until, step), result.seed, told)


def _check_files(series: Path | None, log: Path | None, plot: Path | None) -> None:
    """Refuse endings that name no form, before a month is played."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.base.frames import check_frame_path
    from echotally.output.evidence.log_files import log_form

    if series:
        check_frame_path(series, "--series")
    if log:
        log_form(log, "--log")
    check_plot_path(plot)


class _Again(NamedTuple):
    """How many replications (0: the month once, here), and where they are played."""

    n: int
    workers: int
    cluster: str | None


def _played(
    loaded: Loaded,
    plans: tuple[str, ...],
    seed: int | None,
    again: _Again,
    how: PlayingWords,
) -> tuple[Projection, Replicated | None]:
    from echotally.projection.project import project as play
    from echotally.projection.replicate import replicate

    replicated: Replicated | None = None
    with progress_line() as tell:
        if again.n:
            replicated = replicate(
                loaded, again.n, plans, seed, progress=tell, workers=again.workers, cluster=again.cluster, **how
            )
            result = replicated.first
        else:
            result = play(loaded, (), plans, seed, progress=tell, cluster=again.cluster, **how)
    return result, replicated


def _with_incidents(loaded: Loaded, result: Projection, how: PlayingWords) -> Projection:
    from echotally.projection.incidents import with_incidents

    with progress_line() as tell:
        return with_incidents(loaded, result, tell, Playing(**how))


def _with_edges(loaded: Loaded, result: Projection) -> Projection:
    from echotally.studies.edges import with_edges

    with progress_line() as tell:
        return with_edges(loaded, result, tell)


def _landed(loaded: Loaded, result: Projection, bill: Path, until: date, plans: tuple[str, ...]) -> Projection:
    from echotally.evidence.bill.so_far import with_bill_so_far

    with progress_line() as tell:
        plan = plans[0] if len(plans) == 1 else None
        return with_bill_so_far(loaded, result, bill, until, plan=plan, progress=tell)


def _days(loaded: Loaded, result: Projection, until: date | None) -> Sequence[Stretch]:
    """The picked (else closest) plan's month day by day, up to ``until``."""
    from echotally.projection.over_time import days_of, midnight, stretches

    clock, best = result.month.clock, result.best
    last = clock.length_ns if until is None else midnight(clock, until)
    if best is None:
        return ()
    return [each for each in stretches(loaded, best, result.seed, days_of(clock)) if each.until_ns <= last]


def _fits_the_form(form: str, out: Path | None) -> None:
    """Options that only some forms show are refused with the others."""
    if out is not None and out.suffix == ".xlsx":
        need("xlsxwriter")
    options.only_where(form == "table", "but in the table", "explained", "all_meters")
    as_rows = form == "csv" or (out is not None and out.suffix == ".parquet" and form != "focus")
    options.only_where(as_rows, "but in CSV and Parquet", "level")
    options.only_where(form in ("table", "json"), "but in the table and in JSON", "incidents", "edges")


def _gate(result: Projection) -> int:
    """The exit code under ``--gate``: an undecided pick is no miss, and is told."""
    if result.pick is None or result.best is None:
        return MISSED
    if result.best.undecided:
        saying.note(f"gate: {result.pick} is undecided, which is no miss; --exact would settle it")
    return 0


def _splits(form: str, by: str | None) -> bool:
    """Hold ``--by`` to what the form can show; whether rows are by the day."""
    if by is None:
        return False
    if form == "focus":
        if by != "day":
            raise click.UsageError(
                "--by splits FOCUS rows by day only: they name function, environment and tags anyway"
            )
        return True
    from echotally.projection.showback import splits_of

    splits_of(by)
    return False


def _as_file(out: Path | None) -> bool:
    return out is not None and out.suffix in (".xlsx", ".parquet")


class _Rows(NamedTuple):
    """The form data is asked for in, how fine its rows are, what splits the cost, and the periods of billing rows."""

    form: str
    level: str
    by: str | None
    periods: Sequence[Stretch]


def _deliver_data(result: Projection, rows: _Rows, replicated: Replicated | None, out: Path | None) -> None:
    from echotally.output.projection.projection_exports import projection_file, projection_rows
    from echotally.output.projection.projection_json import projection_json

    if out is not None and _as_file(out):
        write_whole(out, projection_file(result, out.suffix, rows.form, rows.level, rows.periods))
    elif rows.form == "json":
        deliver(projection_json(result, rows.by, replicated), out)
    else:
        deliver(projection_rows(result, rows.form, rows.level, rows.by, rows.periods), out)


def _small_enough_for_a_log(loaded: Loaded, offers: Sequence[Offer]) -> None:
    if all(map(loaded.is_large, offers)):
        raise BadInput(Problem("the month has too many events for a log of each", "--log", allowed="up to 40 million"))


def _write_log(loaded: Loaded, plan: str | None, seed: int | None, path: Path) -> None:
    from echotally.output.evidence.log_files import write_log

    if plan is None:
        raise BadInput(Problem("no plan can run this estate, so there is no log", "--log"))
    _small_enough_for_a_log(loaded, [loaded.offers[plan]])
    write_log(loaded, plan, seed, path)
