"""``echotally report``."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from functools import partial
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

    from echotally.findings import Checked
    from echotally.output.projection.report_parts import Picture
    from echotally.projection.answer import Projection
    from echotally.projection.loaded import Loaded
    from echotally.projection.threads import Progress
    from echotally.studies.otherwise import Otherwise

#: Events of a month, taken as long as they are among many functions, up to which the page says at how many times the demand edges are
#: reached.
_SMALL = 1_000_000
#: Events up to which the page says what other seeds and demands would do, and how the worst day went.
_SOON = 3_000_000


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
    from echotally.output.projection.report import report_page
    from echotally.projection.incidents import with_incidents
    from echotally.projection.loaded import load
    from echotally.projection.project import project_loaded
    from echotally.projection.threads import MANY

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
    if loaded.model.units >= MANY and not (loaded.model.incidents or bill_so_far):
        result = result.without_other_months()
    with _other_months(loaded, result) as others:
        with progress_line() as tell:
            if loaded.model.incidents:
                result = with_incidents(loaded, result, tell)
            result = _with_edges(loaded, result, tell)
            if bill_so_far and until:
                from echotally.evidence.bill.so_far import with_bill_so_far

                plan = plans[0] if len(plans) == 1 else None
                result = with_bill_so_far(loaded, result, bill_so_far, until, plan=plan, progress=tell)
        checked = _checked(loaded, plans, result)
        day = _worst_day(loaded, result)
        with progress_line() as tell:
            page = report_page(result, checked, model, by, day, partial(others, tell))
    write_whole(out, page.encode())
    saying.note(f"Written: {out}")


def _checked(loaded: Loaded, plans: tuple[str, ...], result: Projection) -> Checked | None:
    """The findings; none where the plan cannot run the estate: it has a page all the same, with its reasons."""
    from echotally.errors import BadInput
    from echotally.findings import check_model

    try:
        return check_model(loaded, (), plans[0] if plans else None, result)
    except BadInput:
        return None


def _soon(result: Projection, most: float) -> bool:
    """Whether the month of the plan shown has so few events that more of its kind are soon played."""
    return result.best is not None and result.best.totals.events["in"] <= most


@contextmanager
def _other_months(loaded: Loaded, result: Projection) -> Iterator[Callable[[Progress | None], Otherwise]]:
    """Begin what else might come, as far as it is soon played; a function that waits for it."""
    from echotally.projection.aside import set_aside
    from echotally.projection.threads import MANY
    from echotally.studies.otherwise import Otherwise, otherwise

    if not _soon(result, _SOON):
        yield lambda _: Otherwise()
    elif loaded.model.units >= MANY:
        # A month of so many functions takes as much memory as the page; they are not there at the same time.
        with progress_line() as tell:
            found = otherwise(loaded, result, tell)
        yield lambda _: found
    else:
        # The page is drawn while other months are played, which need nothing of what else is found here.
        with set_aside(partial(otherwise, loaded, result)) as aside:
            yield partial(aside.result, "other months")


def _worst_day(loaded: Loaded, result: Projection) -> Picture | None:
    from echotally.output.projection.report import day_picture
    from echotally.projection.window import Look, window, worst_day

    best = result.best
    if best is None or not _soon(result, _SOON):
        return None
    day = worst_day(loaded, best)
    return day_picture(window(loaded, best, Look(day, day + timedelta(days=1), "5 min"), result.seed))


def _with_edges(loaded: Loaded, result: Projection, tell: Progress) -> Projection:
    """How far the plan shown is from its edges, where months of four times the demand are still played soon."""
    from echotally.studies.demand_points import TWICE_AS_LONG
    from echotally.studies.edges import with_edges

    most = _SMALL / (1 + loaded.model.units / TWICE_AS_LONG)
    return with_edges(loaded, result, tell, near=True) if _soon(result, most) else result
