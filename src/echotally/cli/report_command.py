"""``echotally report``."""

from __future__ import annotations

import gc
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
    from echotally.output.projection.report_parts import Picture, PlayedBeside
    from echotally.projection.answer import Projection
    from echotally.projection.loaded import Loaded
    from echotally.projection.threads import Progress

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
    from echotally.projection.memory import give_back_memory
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
    with _beside(loaded, result) as beside:
        with progress_line() as tell:
            if loaded.model.incidents:
                result = with_incidents(loaded, result, tell)
            result = _with_edges(loaded, result, tell)
            if bill_so_far and until:
                from echotally.evidence.bill.so_far import with_bill_so_far

                plan = plans[0] if len(plans) == 1 else None
                result = with_bill_so_far(loaded, result, bill_so_far, until, plan=plan, progress=tell)
        checked = _checked(loaded, plans, result)
        give_back_memory()
        with progress_line() as tell:
            page = report_page(result, checked, model, by, partial(beside, tell))
    write_whole(out, page.encode())
    saying.note(f"Written: {out}")


def _checked(loaded: Loaded, plans: tuple[str, ...], result: Projection) -> Checked | None:
    """The findings; none where the plan cannot run the estate: it has a page all the same, with its reasons."""
    from echotally.errors import BadInput
    from echotally.findings import check_model
    from echotally.projection.threads import MANY

    try:
        # Where other months are being played aside, no core is left.
        aside = loaded.model.units >= MANY
        with progress_line() as tell:
            return check_model(loaded, (), plans[0] if plans else None, result, aside=aside, progress=tell)
    except BadInput:
        return None


def _soon(result: Projection, most: float) -> bool:
    """Whether the month of the plan shown has so few events that more of its kind are soon played."""
    return result.best is not None and result.best.totals.events["in"] <= most


@contextmanager
def _beside(loaded: Loaded, result: Projection) -> Iterator[Callable[[Progress | None], PlayedBeside]]:
    """Begin what is played beside the month, as far as that is soon done; a function that waits for it."""
    from echotally.output.base.charts import get_ready
    from echotally.output.projection.report_parts import PlayedBeside
    from echotally.projection.aside import set_aside
    from echotally.projection.threads import MANY

    if not _soon(result, _SOON):
        yield lambda _: PlayedBeside()
    elif loaded.model.units >= MANY:
        # A month of so many functions takes as much memory as the page; they are not there at the same time.
        with progress_line() as tell:
            found = _played_beside(loaded, result, tell)
        yield lambda _: found
    else:
        # The page is drawn while other months are played, which need nothing of what else is found here.
        get_ready()
        # What is there stays: looking for garbage is cheap from here on, and leaves pages to both that neither writes to.
        gc.collect()
        gc.freeze()
        try:
            with set_aside(partial(_played_beside, loaded, result)) as aside:
                yield partial(aside.result, "other months")
        finally:
            gc.unfreeze()


def _played_beside(loaded: Loaded, result: Projection, tell: Progress | None) -> PlayedBeside:
    from echotally.output.projection.report_parts import PlayedBeside
    from echotally.projection.memory import give_back_memory
    from echotally.studies.otherwise import otherwise

    other = otherwise(loaded, result, tell)
    # Threads that played months have left much free, and the page is drawn at the same time.
    give_back_memory()
    return PlayedBeside(other, _worst_day(loaded, result))


def _worst_day(loaded: Loaded, result: Projection) -> Picture | None:
    from echotally.output.projection.report import day_picture
    from echotally.projection.window import Look, window, worst_day

    best = result.best
    if best is None:
        return None
    day = worst_day(loaded, best)
    return day_picture(window(loaded, best, Look(day, day + timedelta(days=1), "5 min"), result.seed))


def _with_edges(loaded: Loaded, result: Projection, tell: Progress) -> Projection:
    """How far the plan shown is from its edges, where months of four times the demand are still played soon."""
    from echotally.studies.edges import with_edges
    from echotally.studies.work import longer

    small = _soon(result, _SMALL / longer(loaded.model.units))
    return with_edges(loaded, result, tell, near=True) if small else result
