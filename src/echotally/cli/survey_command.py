"""``echotally survey``."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options, saying
from echotally.cli.progress import prepare_simulation
from echotally.errors import BadInput, Problem
from echotally.files import write_whole

if TYPE_CHECKING:
    from echotally.evidence.survey.made import Survey
    from echotally.evidence.survey.updating import Updated


@commands.command(
    epilog="Example: echotally survey river-watch/county/spans.otlp.json.gz --metrics river-watch/county/metrics.otlp.json.gz "
    "--bill river-watch/county/bill.csv -o surveyed"
)
@click.argument("sources", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="SOURCE...")
@click.option(
    "-o",
    "--out",
    "folder",
    required=True,
    type=click.Path(path_type=Path, file_okay=False),
    help="Folder for model.toml, rates/*.toml, survey.json, unknown.md and survey.html.",
)
@click.option(
    "--bill",
    "bills",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    help="Bill with FOCUS columns: unit prices, tiers and allowances come from it. May be given several times.",
)
@click.option(
    "--metrics",
    multiple=True,
    metavar="FILE|URL",
    help="Metrics of the functions: OTLP/JSON, OpenMetrics text, or a monitoring server. Where spans are a sample, rates are theirs.",
)
@click.option("--month", metavar="YYYY-MM", help="The model's month (default: the bill's, else the log's fullest).")
@click.option(
    "--hold-back",
    metavar="TIME",
    callback=options.duration,
    help="How much of the log's end to keep back and try the model on, such as '7 d' (default: 7 d, or a quarter of a short log); '0 s': nothing.",
)
@click.option(
    "--model",
    type=click.Path(path_type=Path, dir_okay=False),
    help="A model that stands: bring its values up to date, say which have drifted, keep all else.",
)
@click.option(
    "--timezone",
    type=names.ZONE,
    help="IANA zone of times without an offset, and of the estate (default: what the rhythm keeps to, else UTC).",
)
@options.column_option
@options.format_option("table", "json")
@options.width_option
def survey(
    sources: tuple[Path, ...],
    folder: Path,
    bills: tuple[Path, ...],
    metrics: tuple[str, ...],
    month: str | None,
    hold_back: int | None,
    model: Path | None,
    timezone: str | None,
    columns: tuple[tuple[str, str], ...],
    form: str,
    width: int | None,
) -> None:
    """Make a model and a rate card from what really happened: logs, spans, metrics and bills, with their doubt stated.

    SOURCE is a run log (CSV, JSON lines, Parquet), OTLP/JSON of spans or metrics, each also gzipped, or a folder of them.
    """
    from echotally.evidence.survey import survey as surveying
    from echotally.evidence.survey.made import HEAD
    from echotally.evidence.survey.updating import hold_folder, updated
    from echotally.output.evidence import survey_view as shown
    from echotally.projection.loaded import load

    options.check_month(month)
    if timezone:
        options.check_zone(timezone)
    held = None if hold_back is None else hold_back / 1e9
    if model is None:
        # Before hours of reading: a folder that holds something else is refused at once.
        hold_folder(folder, HEAD)
    standing = load(model) if model else None
    prepare_simulation()
    # The standing model says in which zone its people think, where the command line does not.
    made = surveying.survey(
        sources,
        bills=bills,
        metrics=metrics,
        month=month,
        hold_back_s=held,
        timezone=timezone or (standing.model.estate.timezone if standing else None),
        columns=columns,
        told=_told(),
    )
    changed = updated(made, model, standing) if model and standing else None
    written = _write(made, folder, model, changed)
    if form == "json":
        click.echo(shown.survey_json(made, changed), nl=False)
    else:
        click.echo(shown.survey_text(made, written, changed, width), nl=False)


def _told() -> Callable[[str], None] | None:
    """Says on a terminal's standard error what is being done."""
    if not saying.shows_progress():
        return None

    def tell(what: str) -> None:
        sys.stderr.write(f"\r\x1b[2K{what} ...")
        sys.stderr.flush()

    return tell


def _write(made: Survey, folder: Path, model: Path | None, changed: Updated | None) -> list[str]:
    """Everything into the folder; a model is loaded before it takes the place of one that stands."""
    from echotally.evidence.survey.made import loaded_from
    from echotally.evidence.survey.updating import try_update, write_update
    from echotally.output.evidence.survey_page import survey_page
    from echotally.output.evidence.survey_view import survey_json, unknown_page

    files = dict(made.files)
    pages = {
        "survey.json": survey_json(made, changed),
        "unknown.md": unknown_page(made),
        "survey.html": survey_page(made),
    }
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if model is not None and changed is not None:
            try_update(model, changed, files)
            written = write_update(model, folder, changed, files)
        else:
            # What is written must load: a survey that makes a model with a mistake is our fault and says so here.
            loaded_from(made)
            written = []
            for name, text in files.items():
                place = folder / name
                place.parent.mkdir(parents=True, exist_ok=True)
                write_whole(place, text.encode())
                written.append(str(place))
        for name, text in pages.items():
            write_whole(folder / name, text.encode())
            written.append(str(folder / name))
    except OSError as error:
        raise BadInput(Problem(f"cannot be written: {error.strerror}", file=str(folder))) from error
    return written
