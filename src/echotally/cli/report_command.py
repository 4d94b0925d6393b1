"""``echotally report``."""

from __future__ import annotations

from pathlib import Path

import click

from echotally.cli import options
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import write_whole


@click.command(epilog="Example: echotally report river-watch/river.toml -o report.html")
@options.model_argument
@options.set_option
@click.option("--plan", "plans", multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated.")
@options.seed_option
@click.option(
    "-o",
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    default=Path("report.html"),
    show_default=True,
    help="The page to write.",
)
def report(model: Path, sets: tuple[tuple[str, str], ...], plans: tuple[str, ...], seed: int | None, out: Path) -> None:
    """Write one self-contained page about MODEL: verdict, plans, bill, charts, functions, findings, assumptions."""
    from echotally.errors import BadInput
    from echotally.findings import check_model
    from echotally.output.projection.report import report_page
    from echotally.projection.incidents import with_incidents
    from echotally.projection.loaded import load
    from echotally.projection.project import project_loaded

    loaded = load(model, sets)
    prepare_simulation()
    with progress_line() as tell:
        result = project_loaded(loaded, list(plans), seed, tell, standing=True, workers=None)
        if loaded.model.incidents:
            result = with_incidents(loaded, result, tell)
    try:
        checked = check_model(model, sets, plans[0] if plans else None)
    except BadInput:
        # A plan that cannot run the estate has a page all the same, with its reasons.
        checked = None
    write_whole(out, report_page(result, checked, model).encode())
    click.echo(f"Written: {out}", err=True)
