"""``echotally demand``."""

from __future__ import annotations

from pathlib import Path

from echotally.cli import commands, options
from echotally.cli.progress import prepare_simulation
from echotally.files import write_whole
from echotally.output.base.exports import as_table
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally demand river-watch/river.toml --plot demand.png")
@options.model_argument
@options.set_option
@options.seed_option
@options.format_option("table", "json", "csv", "markdown")
@options.plot_option
@options.width_option
@options.out_option
def demand(
    model: Path,
    sets: tuple[tuple[str, str], ...],
    seed: int | None,
    form: str,
    plot: Path | None,
    width: int | None,
    out: Path | None,
) -> None:
    """Show what comes in at each source of MODEL: events, busiest minute and hour, a map of day by hour."""
    from echotally.output.base.charts import check_plot_path
    from echotally.output.model import demand_view as shown
    from echotally.projection.demand import view_demand

    check_plot_path(plot)
    prepare_simulation()
    view = view_demand(model, sets, seed)
    if plot:
        write_whole(plot, shown.demand_chart(view, plot.suffix[1:]))
    render = {"json": shown.demand_json, "csv": shown.demand_csv}.get(form)
    if form == "markdown":
        deliver(as_table(shown.demand_json(view), form, "sources"), out)
        return
    deliver(render(view) if render else shown.demand_text(view, width, False if out else None), out)
