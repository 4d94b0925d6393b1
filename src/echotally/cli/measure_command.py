"""``echotally measure``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options, saying
from echotally.cli.numbers import Amount, Whole
from echotally.cli.progress import progress_line
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.naming import known_name
from echotally.output.base.writing import deliver

if TYPE_CHECKING:
    from echotally.evidence.measure.keys import Keys
    from echotally.evidence.measure.plans import Billed
    from echotally.evidence.measure.rows import Run, Tried
    from echotally.projection.loaded import Loaded


@commands.command(
    epilog="Example: echotally measure --serve --batch 1,10,50 --runs 8 -- python river-watch/programs/answer.py"
)
@click.argument("command", nargs=-1, type=click.UNPROCESSED, metavar="[-- COMMAND...]")
@click.option(
    "--runs",
    type=Whole(2, 100_000),
    default=30,
    show_default=True,
    help="Most runs (of each batch size), starts, or requests a client; fewer where they agree.",
)
@click.option(
    "--events",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Events to hand over, a JSON value a line or a JSON list (default: a number each).",
)
@click.option(
    "--batch",
    "batches",
    callback=options.counts,
    multiple=True,
    metavar="N,N,...",
    help="Hand over JSON arrays of so many events, each size in turn: what an item adds.",
)
@click.option(
    "--serve",
    is_flag=True,
    help="The program reads events as JSON lines and answers one line each: its start and its warm answers apart.",
)
@click.option(
    "--slots",
    callback=options.counts,
    multiple=True,
    metavar="N,N,...",
    help="With --serve: so many events unanswered at once; does it stretch as the model says?",
)
@click.option("--url", metavar="URL", help="Ask a program on this machine in place of starting one.")
@click.option(
    "--clients",
    callback=options.counts,
    multiple=True,
    metavar="N,N,...",
    help="With --url: clients that ask, wait for the answer, and ask again (default: 1,5,20).",
)
@click.option(
    "--pid",
    type=Whole(1),
    metavar="PID",
    help="With --url: the process that answers, for its CPU time and memory.",
)
@click.option(
    "--seconds",
    type=Amount(min=0.1, max=3_600),
    default=5.0,
    show_default=True,
    help="With --url: longest time of a number of clients.",
)
@click.option("--elsewhere", is_flag=True, help="With --url: ask another machine than this one. It bears the load.")
@click.option(
    "--time-limit",
    "limit",
    callback=options.duration,
    default="10 s",
    show_default=True,
    metavar="DURATION",
    help="Longest run or answer; then the program and its children are ended.",
)
@click.option(
    "--factor",
    type=Amount(min=0.01, max=100),
    default=1.0,
    show_default=True,
    help="The processor it will run on is so many times as fast as this one.",
)
@click.option(
    "--memory", callback=options.memory, metavar="SIZE", help="Memory it is given (default: the least that holds it)."
)
@click.option("--model", type=click.Path(path_type=Path), help="A model: its plans price the runs.")
@click.option("--function", type=names.FUNCTION, metavar="NAME", help="The function of the model that the program is.")
@click.option(
    "--card",
    "cards",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    help="A rate card whose plans price the runs. May be repeated.",
)
@click.option("--write", is_flag=True, help="Write the keys into --model for --function; comments and order stay.")
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def measure(
    command: tuple[str, ...],
    runs: int,
    events: Path | None,
    batches: tuple[int, ...],
    serve: bool,
    slots: tuple[int, ...],
    url: str | None,
    clients: tuple[int, ...],
    pid: int | None,
    seconds: float,
    elsewhere: bool,
    limit: int | None,
    factor: float,
    memory: int | None,
    model: Path | None,
    function: str | None,
    cards: tuple[Path, ...],
    write: bool,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Try a program of yours on this machine: run time, CPU, memory and replies, as keys of the model with their intervals.

    COMMAND is started as often as it takes, with an event as JSON on its standard input; its standard output is the reply, its
    standard error the log.
    """
    from echotally.cli.model_values import write_values
    from echotally.evidence.measure.measure import measure as ask
    from echotally.evidence.measure.pasting import propose
    from echotally.evidence.measure.trying import read_events
    from echotally.output.base.exports import in_form
    from echotally.output.evidence import measure_view as shown
    from echotally.output.evidence.measure_chart import measure_chart

    # Everything that can be refused is refused before a program of theirs is started.
    limit = _check_together(command, url, serve, limit, plot)
    function = function and function.removeprefix("functions.")
    loaded = _loaded(model, function, write)
    if elsewhere:
        saying.note(f"Asking {url}: it bears this load, and its owner should know.")
    with progress_line() as tell:
        measured = ask(
            command,
            url=url,
            serve=serve,
            events=read_events(events) if events else (),
            batches=batches,
            slots=slots,
            clients=clients or (1, 5, 20),
            pid=pid,
            runs=runs,
            limit_s=limit / 1e9,
            longest_s=seconds,
            factor=factor,
            elsewhere=elsewhere,
            tell=tell,
        )
    proposal = propose(measured.keys, function or "NAME", memory, keep_samples=write)
    given = memory or (loaded.model.functions[function].memory if loaded and function else None)
    billed = _billed(measured.tried, measured.keys, loaded, cards, given)
    found = shown.Measured(measured.tried, measured.keys, proposal, billed)
    if plot:
        write_whole(plot, measure_chart(found, plot.suffix[1:]))
    if write and model:
        write_values(model, proposal)
    colour = False if out else None
    deliver(in_form(form, lambda: shown.measure_text(found, width, colour), lambda: shown.measure_json(found)), out)


def _check_together(
    command: tuple[str, ...], url: str | None, serve: bool, limit: int | None, plot: Path | None
) -> int:
    """Refuse, before anything is tried, options that say nothing beside the others; returns the time limit, ns."""
    from echotally.output.base.charts import check_plot_path

    # Both or neither: it is not clear what is to be tried.
    if bool(command) == bool(url):
        raise click.UsageError("give a program, as in: echotally measure -- python answer.py, or --url")
    options.only_where(serve, "without --serve", "slots")
    options.only_where(url, "without --url", "clients", "pid", "seconds", "elsewhere")
    options.only_where(not url, "with --url", "serve", "slots", "batches")
    # With no time at all every run would be cut, and say nothing.
    if not limit:
        raise BadInput(Problem("is no time", "--time-limit", value="0 s", allowed="more than 0 s"))
    check_plot_path(plot)
    return limit


def _loaded(model: Path | None, function: str | None, write: bool) -> Loaded | None:
    """The model, whose plans price the runs and which is written to."""
    if write and (model is None or function is None):
        raise BadInput(Problem("--write needs to know where", allowed="--model FILE and --function NAME"))
    if model is None:
        return None
    from echotally.projection.loaded import load

    loaded = load(model)
    if function is not None:
        known_name("function", "--function", function, loaded.model.functions)
    return loaded


def _billed(
    tried: Tried, keys: Keys, loaded: Loaded | None, cards: tuple[Path, ...], memory: int | None
) -> tuple[tuple[Run, tuple[Billed, ...]], ...]:
    """What each run would be billed on the plans of the model and the cards."""
    from echotally.evidence.measure.plans import billed
    from echotally.rates.card_loading import candidates, load_card, offers_of

    offers = list(candidates(loaded.model, loaded.offers)) if loaded else []
    offers += [offer for card in cards for offer in offers_of(load_card(card))]
    runs = sorted(tried.warm(), key=lambda run: run.took_s)
    others = [run for run in tried.runs if run.outcome == "ok" and run.kind != "warm"]
    # By time, so that the median run stands in the middle.
    return tuple((run, tuple(billed(run, offers, keys, memory))) for run in [*runs, *others]) if offers else ()
