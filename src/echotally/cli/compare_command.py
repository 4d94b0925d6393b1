"""``echotally compare``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import commands, options
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally compare before.json after.json --format markdown")
@click.argument("first", type=click.Path(path_type=Path))
@click.argument("second", type=click.Path(path_type=Path))
@options.by_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def compare(
    first: Path, second: Path, by: str | None, form: str, plot: Path | None, width: int | None, out: Path | None
) -> None:
    """Compare two projections saved with 'project --format json': what changed, and what it does to the cost."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.studies import compare_view as shown
    from echotally.studies.compare import compare as compared

    check_plot_path(plot)
    found = compared(first, second, by=by)
    if plot:
        write_whole(plot, shown.compare_chart(found, plot.suffix[1:]))
    if form == "markdown":
        deliver(shown.compare_markdown(found), out)
        return
    text = in_form(
        form, lambda: shown.compare_text(found, width, False if out else None), lambda: shown.compare_json(found)
    )
    deliver(text, out)
