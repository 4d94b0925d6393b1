"""``echotally report``."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from echotally.cli import commands, names, options, saying
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.files import hold_place, write_whole
from echotally.parts import need
from echotally.projection.playing import Playing

if TYPE_CHECKING:
    from datetime import date

    from echotally.output.projection.report import Beside
    from echotally.projection.answer import Projection
    from echotally.projection.loaded import Loaded
    from echotally.projection.threads import Progress

#: Events of a month up to which the page says at how many times the demand edges are reached.
_SMALL = 1_000_000
#: Events up to which the page says what other seeds and demands would do, and how the worst day went; and with how many seeds.
_SOON, _SEEDS = 3_000_000, 5


@commands.command(epilog="Example: echotally report river-watch/river.toml -o report.html")
@options.model_argument
@options.set_option
@click.option(
    "--plan", "plans", type=names.PLAN, multiple=True, metavar="CARD.PLAN", help="Only this plan. May be repeated."
)
@options.by_option
@options.so_far_options
@options.seed_option
@click.option(
    "-o",
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    default=Path("report.html"),
    show_default=True,
    help="The page to write.",
)
def report(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    plans: tuple[str, ...],
    by: str | None,
    bill_so_far: Path | None,
    until: date | None,
    seed: int | None,
    out: Path,
) -> None:
    """Write one self-contained page about MODEL: verdict, plans, bill, charts, functions, findings, assumptions."""
    from echotally.errors import BadInput
    from echotally.findings import check_model
    from echotally.output.projection.report import report_page
    from echotally.projection.incidents import with_incidents
    from echotally.projection.loaded import load
    from echotally.projection.project import project_loaded

    options.only_where(bill_so_far, "without --so-far", "until")
    options.until_with(bill_so_far, until)
    if out.suffix.lower() not in ("", ".html", ".htm"):
        raise click.UsageError(f"-o {out}: a report is a page, and its name ends in .html")
    need("jinja2", "matplotlib", "igraph")
    hold_place(out)
    loaded = load(model, sets)
    prepare_simulation()
    with progress_line() as tell:
        result = project_loaded(loaded, list(plans), seed, tell, how=Playing(standing=True), workers=None)
        if loaded.model.incidents:
            result = with_incidents(loaded, result, tell)
        result = _with_edges(loaded, result, tell)
        if bill_so_far and until:
            from echotally.evidence.bill.so_far import with_bill_so_far

            plan = plans[0] if len(plans) == 1 else None
            result = with_bill_so_far(loaded, result, bill_so_far, until, plan=plan, progress=tell)
    try:
        checked = check_model(loaded, (), plans[0] if plans else None, result)
    except BadInput:
        # A plan that cannot run the estate has a page all the same, with its reasons.
        checked = None
    with progress_line() as tell:
        beside = _beside(loaded, result, tell)
    write_whole(out, report_page(result, checked, model, by, beside).encode())
    saying.note(f"Written: {out}")


def _beside(loaded: Loaded, result: Projection, tell: Progress) -> Beside:
    """Other seeds, other demands and the worst day, as far as they are soon played."""
    from echotally.output.projection.report import Beside, day_picture
    from echotally.projection.replicate import replicate
    from echotally.projection.window import Look, window, worst_day
    from echotally.studies.demand_points import demand_points

    best = result.best
    if best is None or best.totals.events["in"] > _SOON:
        return Beside()
    shown = replace(result, plans=(best,))
    replicated = replicate(
        loaded, _SEEDS, [best.offer.name], result.seed, first=shown, by_function=False, progress=tell
    )
    points = demand_points(loaded, result, progress=tell)
    day = worst_day(loaded, best)
    seen = window(loaded, best, Look(day, day + timedelta(days=1), "5 min"), result.seed)
    return Beside(replicated, points, day_picture(seen))


def _with_edges(loaded: Loaded, result: Projection, tell: Progress) -> Projection:
    """How far the plan shown is from its edges, where months of four times the demand are still played soon."""
    from echotally.studies.edges import with_edges

    best = result.best
    small = best is not None and best.totals.events["in"] <= _SMALL
    return with_edges(loaded, result, tell, near=True) if small else result
