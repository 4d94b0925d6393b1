"""``echotally check``."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options, saying
from echotally.cli.failing import BAD_INPUT
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.errors import BadInput, Problem
from echotally.files import write_whole
from echotally.output.base.writing import deliver

if TYPE_CHECKING:
    from echotally.findings import Checked


@commands.command(epilog="Example: echotally check river-watch/river.toml")
@options.model_argument
@options.set_option
@click.option("--defaults", is_flag=True, help="Show every value in force, those left out of the file too.")
@click.option(
    "--plan",
    type=names.PLAN,
    metavar="CARD.PLAN",
    help="Look at the model on this plan (default: the one project picks).",
)
@click.option(
    "--every", is_flag=True, help="Try every change, also where each takes the month of a large part of the estate."
)
@click.option("--strict", is_flag=True, help="Leave with exit code 2 if there is a warning that is not accepted.")
@options.format_option("table", "json", "csv", "markdown", "sarif")
@options.plot_option
@click.option(
    "--chart",
    type=click.Choice(["findings", "map"]),
    default="findings",
    show_default=True,
    help="What --plot draws: what each finding is worth, or a map of the estate.",
)
@options.out_option
def check(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    defaults: bool,
    plan: str | None,
    every: bool,
    strict: bool,
    form: str,
    plot: Path | None,
    chart: str,
    out: Path | None,
) -> int:
    """Find every mistake in MODEL and its rate cards, and what a seasoned colleague would notice in it.

    Mistakes name file, line, address and what is allowed, and leave with exit code 2. Findings have a code, the
    numbers of this model, what it costs, and one change to try.
    """
    from echotally.output.base.charts import check_plot_path
    from echotally.output.base.exports import in_form

    check_plot_path(plot)
    options.only_where(plot, "without --plot", "chart")
    # Nothing is played for it: values in force are known as soon as the model is read.
    if defaults:
        options.only_where(False, "with --defaults", "plan", "every", "strict", "plot")
        from echotally.output.model.checked import defaults_json, defaults_text
        from echotally.projection.loaded import load

        if form == "sarif":
            raise BadInput(Problem("is a form of findings, not of values", "--format", value=form))
        loaded = load(model, sets)
        deliver(in_form(form, lambda: defaults_text(loaded), lambda: defaults_json(loaded), "values"), out)
        return 0
    from echotally.findings import check_model
    from echotally.output.model import findings_view as shown

    prepare_simulation()
    try:
        with progress_line() as progress:
            checked = check_model(model, sets, plan, every=every, aside=True, progress=progress)
    except BadInput as error:
        if form != "table":
            # A system that reads the document must learn of mistakes too; people are told them as ever.
            mistakes = shown.mistakes_sarif if form == "sarif" else shown.mistakes_json
            data = partial(mistakes, error.problems)
            deliver(in_form("json" if form == "sarif" else form, data, data, "findings"), out)
        raise
    if plot:
        write_whole(plot, _picture(checked, chart, plot.suffix[1:]))
    text = shown.findings_sarif if form == "sarif" else shown.findings_text
    deliver(in_form(form, lambda: text(checked), lambda: shown.findings_json(checked), "findings"), out)
    if checked.untried and form in ("csv", "markdown"):
        # Rows have no place for it.
        saying.note(shown.untried_said(checked))
    # After everything was delivered: a gate that fails must still say of what.
    return BAD_INPUT if checked.open("error") or (strict and checked.open("warning")) else 0


def _picture(checked: Checked, chart: str, form: str) -> bytes:
    if chart == "findings":
        from echotally.output.model.findings_chart import findings_chart

        return findings_chart(checked, form)
    from echotally.output.projection.projection_charts import projection_chart
    from echotally.projection.project import project_loaded

    return projection_chart(project_loaded(checked.loaded, [checked.plan]), "map", form)
