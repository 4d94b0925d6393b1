"""``echotally reconcile``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import write_whole
from echotally.output.base.exports import in_form
from echotally.output.base.writing import deliver

if TYPE_CHECKING:
    from datetime import date


@commands.command(
    epilog="Example: echotally reconcile river-watch/river.toml river-watch/logs/bill.csv --plot difference.png"
)
@options.model_argument
@click.argument("bill", type=click.Path(path_type=Path))
@options.set_option
@click.option(
    "--plan", type=names.PLAN, metavar="CARD.PLAN", help="Plan the bill is for (default: the one project picks)."
)
@click.option(
    "--mapping",
    type=click.Path(path_type=Path, dir_okay=False),
    help="CSV with the columns resource, sku (patterns with * and ?), function, environment, meter: whose a row is.",
)
@click.option("--tag", default="function", show_default=True, help="Tag of the bill that names the function.")
@click.option(
    "--environment",
    type=names.ENVIRONMENT,
    default="environment",
    show_default=True,
    help="Tag or column of the bill that names the environment.",
)
@click.option(
    "--cost",
    type=click.Choice(["billed", "effective", "list", "contracted"]),
    help="Which cost of the bill is compared (default: billed, where it has that column).",
)
@click.option(
    "--write-mapping",
    "skeleton",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Also write a mapping file with a line for each resource and SKU that maps to nothing, to be filled in.",
)
@options.until_option
@options.by_option
@options.seed_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def reconcile(
    model: Path,
    bill: Path,
    sets: tuple[tuple[str, str], ...],
    plan: str | None,
    mapping: Path | None,
    tag: str,
    environment: str,
    cost: str | None,
    skeleton: Path | None,
    until: date | None,
    by: str | None,
    seed: int | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Lay an actual BILL (CSV or Parquet with FOCUS columns) beside the projection of MODEL, and say where they part."""
    from echotally.evidence.bill.bill_file import mapping_skeleton
    from echotally.evidence.bill.reconcile import reconcile as compared
    from echotally.evidence.bill.reconcile import splits_of_bill
    from echotally.output.base.charts import check_plot_path
    from echotally.output.evidence import reconcile_view as shown
    from echotally.projection.loaded import load
    from echotally.projection.project import project_loaded

    check_plot_path(plot)
    if by is not None:
        splits_of_bill(by)
    loaded = load(model, sets)
    prepare_simulation()
    with progress_line() as tell:
        played = project_loaded(loaded, [plan] if plan else [], seed, tell, workers=None)
    found = compared(
        played, bill, plan, mapping, tag=tag, environment=environment, cost=cost, until=until, loaded=loaded
    )
    if skeleton:
        write_whole(skeleton, mapping_skeleton(found.bill).encode())
    if plot:
        write_whole(plot, shown.reconcile_chart(found, plot.suffix[1:]))
    text = in_form(
        form,
        lambda: shown.reconcile_text(found, width, False if out else None, by),
        lambda: shown.reconcile_json(found, by),
    )
    deliver(text, out)
