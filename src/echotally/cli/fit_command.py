"""``echotally fit``."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING, NamedTuple

import click

from echotally.cli import commands, names, options
from echotally.cli.model_values import write_values
from echotally.cli.progress import prepare_simulation
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.output.base.writing import deliver

if TYPE_CHECKING:
    from echotally.evidence.fit.trials import TrialFit
    from echotally.evidence.telemetry.reading import TraceFound
    from echotally.projection.loaded import Loaded


@commands.command(
    epilog="Examples: echotally fit river-watch/logs/look.csv --model river-watch/river.toml --plan heron.shared   |   "
    "echotally fit requests.prom --trace visitors.csv"
)
@click.argument("logs", nargs=-1, type=click.Path(path_type=Path), metavar="[LOG]...")
@click.option(
    "--function", type=names.FUNCTION, metavar="NAME", help="The function to fit (default: the log's only one)."
)
@click.option("--environment", type=names.ENVIRONMENT, metavar="NAME", help="Only rows of this environment.")
@click.option("--model", type=click.Path(path_type=Path), help="Model the function is in: its zone, sources and plans.")
@click.option(
    "--plan", type=names.PLAN, metavar="CARD.PLAN", help="Plan the log is from: what CPU a memory size has there."
)
@options.column_option
@click.option(
    "--timezone",
    type=names.ZONE,
    default="UTC",
    show_default=True,
    help="IANA zone of times without an offset, without --model.",
)
@click.option("--write", is_flag=True, help="Write the values into the model; comments and order stay.")
@click.option(
    "--trace",
    type=click.Path(path_type=Path, dir_okay=False),
    help="LOG is request metrics: write a trace of them here (.csv).",
)
@click.option("--metric", metavar="NAME", help="With --trace: the metric to read (default: the only one).")
@click.option(
    "--values", type=click.Choice(["counter", "rate"]), help="With --trace: what the values are (default: guessed)."
)
@click.option("--url", help="With --trace: ask this monitoring server instead of reading files.")
@click.option("--query", help="With --url: the range query.")
@click.option("--from", "start", metavar="TIME", help="With --url: first time, ISO 8601 with offset.")
@click.option("--to", "end", metavar="TIME", help="With --url: last time.")
@click.option("--step", default="5 min", show_default=True, help="With --url: step of the query.")
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def fit(
    logs: tuple[Path, ...],
    function: str | None,
    environment: str | None,
    model: Path | None,
    plan: str | None,
    columns: tuple[tuple[str, str], ...],
    timezone: str,
    write: bool,
    trace: Path | None,
    metric: str | None,
    values: str | None,
    url: str | None,
    query: str | None,
    start: str | None,
    end: str | None,
    step: str,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Fit a function's run time, cold start, memory, failures and rhythm to run logs.

    LOG is CSV, JSON lines, Parquet or OTLP/JSON; or load-trial results (CSV with clients, limit, calls, seconds,
    latencies, refused); or, with --trace, request metrics.
    """
    from echotally.evidence.fit.trials import is_trial
    from echotally.output.base.charts import check_plot_path
    from echotally.output.base.exports import in_form
    from echotally.output.evidence import fit_view as shown

    check_plot_path(plot)
    options.only_where(trace, "without --trace", "metric", "values", "url", "query", "start", "end", "step")
    options.only_where(url, "without --url", "query", "start", "end", "step")
    options.only_where(
        not trace, "with --trace", "function", "environment", "model", "plan", "columns", "timezone", "write", "plot"
    )
    colour = False if out else None
    if trace:
        found_trace = _trace(logs, metric, values, _server(url, query, start, end, step))
        write_whole(trace, found_trace.csv().encode())
        deliver(shown.trace_text(found_trace, str(trace)), out)
        return
    # By what is in the file: trials and logs are both CSV, and nobody should have to say which.
    if len(logs) == 1 and is_trial(logs[0]):
        options.only_where(False, "on load trials", "environment", "columns", "timezone", "write", "plot")
        trials = _trials(model, function, logs[0], plan)
        deliver(in_form(form, lambda: shown.trials_text(trials, width, colour), lambda: shown.trials_json(trials)), out)
        return
    from echotally.evidence.fit.fit import fit as fit_logs
    from echotally.evidence.fit.proposal import propose
    from echotally.projection.loaded import load

    if write and model is None:
        raise BadInput(Problem("--write needs the model to write into", allowed="--model FILE"))
    loaded = load(model) if model else None
    options.check_zone(timezone)
    found = fit_logs(logs, function, columns, loaded, plan=plan, environment=environment, timezone=timezone)
    # Before anything is drawn or written, so that nothing is half done.
    if write and loaded is not None:
        _check_known(found.function, loaded)
    proposal = propose(found, loaded.model if loaded else None)
    if plot:
        write_whole(plot, shown.fit_chart(found, plot.suffix[1:]))
    if write and model:
        write_values(model, proposal)
    text = in_form(
        form, lambda: shown.fit_text(found, proposal, width, colour), lambda: shown.fit_json(found, proposal), "figures"
    )
    deliver(text, out)


def _check_known(function: str, loaded: Loaded) -> None:
    """A function that a model lacks is no place to write values to: raises ``BadInput``."""
    names, path = loaded.model.functions, loaded.document.path
    if function not in names:
        raise BadInput(
            Problem(
                "is no function of the model, and nothing was written",
                file=str(path),
                value=function,
                allowed=f"{', '.join(names)}; `echotally survey LOG --model {quote(str(path))} -o FOLDER` adds one whole",
            )
        )


def _trials(model: Path | None, function: str | None, log: Path, plan: str | None) -> TrialFit:
    from echotally.evidence.fit.trials import fit_trials

    if model is None or function is None:
        raise BadInput(Problem("load trials are played with a model", allowed="--model FILE and --function NAME"))
    prepare_simulation()
    return fit_trials(model, function, log, plan)


class _Server(NamedTuple):
    """A server of metrics, and what it is asked: a query, from one instant to another, a value every so many seconds."""

    url: str
    query: str
    start: datetime
    end: datetime
    step_s: int


def _server(url: str | None, query: str | None, start: str | None, end: str | None, step: str) -> _Server | None:
    if url is None:
        return None
    if query is None or start is None or end is None:
        raise BadInput(Problem("--url needs a query and a time", allowed="--query TEXT --from TIME --to TIME"))
    seconds = max(1, (options.duration(None, None, step) or 0) // 10**9)
    return _Server(url, query, _moment(start, "--from"), _moment(end, "--to"), seconds)


def _trace(logs: tuple[Path, ...], metric: str | None, values: str | None, server: _Server | None) -> TraceFound:
    from echotally.evidence.telemetry.reading import trace_of_files, trace_of_server

    rates = None if values is None else values == "rate"
    return trace_of_files(logs, metric, rates) if server is None else trace_of_server(*server, rates)


def _moment(text: str, option: str) -> datetime:
    try:
        return datetime.fromisoformat(text)
    except ValueError as error:
        allowed = "ISO 8601, such as 2027-03-01T00:00+00:00"
        raise BadInput(Problem("is not a time", option, value=text, allowed=allowed)) from error
