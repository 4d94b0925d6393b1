"""Every picture measured: nothing outside the figure, no text on another, nothing small, told apart in grey, at three widths."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_rgb
from matplotlib.text import Text
from msgspec.structs import replace

import echotally
from echotally.evidence.bill.reconcile import reconcile
from echotally.evidence.fit.fit import fit
from echotally.evidence.measure.keys import keys_of
from echotally.evidence.measure.machine import Machine
from echotally.evidence.measure.pasting import propose
from echotally.evidence.measure.rows import Level, Run, Tried
from echotally.evidence.survey.made import Survey
from echotally.evidence.survey.survey import survey
from echotally.evidence.telemetry.firing_check import check_firings
from echotally.output.base.charts import COLOURS, DASHES, INK, MARKS, PIXELS, QUIET, pixels_wide
from echotally.output.evidence.fit_view import fit_chart
from echotally.output.evidence.measure_chart import measure_chart
from echotally.output.evidence.measure_view import Measured
from echotally.output.evidence.reconcile_view import reconcile_chart
from echotally.output.evidence.survey_page import function_chart, wiring_chart
from echotally.output.model.demand_view import demand_chart
from echotally.output.model.findings_chart import findings_chart
from echotally.output.model.firings_chart import firing_check_chart, firings_chart
from echotally.output.model.rates_chart import rates_chart
from echotally.output.projection.map_chart import TROUBLES
from echotally.output.projection.projection_charts import projection_chart
from echotally.output.projection.projection_json import projection_json
from echotally.output.studies.choose_view import choose_chart
from echotally.output.studies.compare_view import compare_chart
from echotally.output.studies.crossover_view import crossover_chart
from echotally.output.studies.follow_chart import follow_chart
from echotally.output.studies.forecast_view import forecast_chart
from echotally.output.studies.sweep_view import sweep_chart
from echotally.output.studies.trial_views import drain_chart, load_chart
from echotally.projection.answer import Projection
from echotally.projection.demand import view_demand
from echotally.projection.loaded import Loaded, load
from echotally.projection.window import Look, window
from echotally.rates.card_loading import load_card
from echotally.studies.compare import compare
from echotally.studies.edges import with_edges

WIDTHS = (640, 1_280, 1_920)
PLANS = ["heron.per-run", "heron.shared"]
Drawing = Callable[[], bytes]


@pytest.fixture(scope="module", params=["river", "long names"])
def estate(request: pytest.FixtureRequest, river: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The small river, and dozens of functions with long names."""
    if request.param == "river":
        return river
    folder = tmp_path_factory.mktemp("long")
    (folder / "rates").mkdir()
    for card in ("heron", "osier"):
        (folder / f"rates/{card}.toml").write_bytes((river.parent / f"rates/{card}.toml").read_bytes())
    # Sixty by night; sixteen are as long, and their studies play a quarter of the months.
    (folder / "long.toml").write_text(long_names(60 if os.environ.get("WHOLE_DEMO") else 16))
    return folder / "long.toml"


def long_names(n: int) -> str:
    """Chains of one to four functions, ``n`` in all."""
    lines = ['schema = "echotally-model/1"', "[estate]", 'name = "The valleys of the upper river and all their brooks"']
    lines += ['month = "2027-03"', 'rate_cards = ["rates/heron.toml", "rates/osier.toml"]']
    lines += ["[defaults]", 'memory = "256 MB"', 'run = { median = "90 ms", p95 = "300 ms" }']
    made = 0
    for valley in itertools.count():
        source = f"queues.levels-of-the-tributaries-of-valley-{valley}"
        lines += [f"[demand.tributaries-of-valley-{valley}]", f'into = "{source}"', f'rate = "{1 + valley % 9} /h"']
        lines += [f"[{source}]"]
        for step in range(1 + valley % 4):
            if made == n:
                return "\n".join(lines)
            function, onward = f"smooth-the-readings-of-valley-{valley}-{step}", f"queues.smoothed-{valley}-{step}"
            lines += [f"[functions.{function}]", f'tags = {{ team = "valley-keepers-{valley % 5}" }}']
            if step < valley % 4 and made < n - 1:
                lines += [f'emits = [{{ into = "{onward}", each = 0.5 }}]', f"[{onward}]"]
            lines += ["[[triggers]]", f'from = "{source}"', f'to = "{function}"']
            source, made = onward, made + 1
    return ""


@pytest.fixture(scope="module")
def loaded(estate: Path) -> Loaded:
    return load(estate)


@pytest.fixture(scope="module")
def month(loaded: Loaded) -> Projection:
    found = echotally.project(loaded, plans=["heron.per-run", "heron.shared", "osier.elastic"])
    return with_edges(loaded, found, near=True) if small(loaded) else found


def small(loaded: Loaded) -> bool:
    """Whether it is the river, of which everything is drawn."""
    return len(loaded.model.functions) < 12


def drawings(loaded: Loaded, month: Projection, folder: Path, *, every: bool) -> Iterator[tuple[str, Drawing]]:
    """Charts of this estate, by name; without ``every`` of the river only what long names have none of."""
    if every or not small(loaded):
        yield from of_any(loaded, month, every=every)
    if small(loaded):
        yield from of_the_river(loaded, month)
        yield from evidence(loaded, month, folder)


def of_any(loaded: Loaded, month: Projection, *, every: bool) -> Iterator[tuple[str, Drawing]]:
    """What is drawn of every estate."""
    best = month.best
    assert best is not None
    function = next(iter(loaded.model.functions))
    for kind in ("cost", "outcome", "map", "waits", "levels", "backlog", "hours"):
        yield kind, partial(projection_chart, month, kind, "png")
    day, hour = "2027-03-14", "2027-03-14T05"
    seen = window(loaded, best, Look(*_days(day, "2027-03-15")))
    closely = window(loaded, best, Look(*_days(f"{hour}:00", f"{hour}:20"))._replace(step="5 s"))
    for name, one in (("day", seen), ("minutes", closely))[: 2 if every else 1]:
        for kind in ("dashboard", "levels", "backlog"):
            yield f"{kind} of {name}", partial(projection_chart, month, kind, "png", function, one)
    yield "dashboard of all", lambda: projection_chart(month, "dashboard", "png", None, seen)
    yield "demand", _lazy(lambda: view_demand(loaded), demand_chart)
    plans = PLANS
    yield "crossover", _lazy(lambda: echotally.crossover(loaded, 0.5, 2, plans, workers=1), crossover_chart)
    axes = [f"functions.{function}.memory=256 MB,512 MB,1 GB"]
    yield "sweep", _lazy(lambda: echotally.sweep(loaded, axes, plans=plans, workers=1), sweep_chart)
    both = [*axes, f"functions.{function}.instance_limit=2,4,8"]
    yield "heat", _lazy(lambda: echotally.sweep(loaded, both, plans=plans[:1], workers=1), sweep_chart)
    ahead = echotally.forecast(loaded, 2, 20, plans=plans)
    for kind in ("fan", "tornado"):
        yield kind, partial(forecast_chart, ahead, kind, "png")


def of_the_river(loaded: Loaded, month: Projection) -> Iterator[tuple[str, Drawing]]:
    """What is asked of one queue, one function, one event; and of what lies beside the model."""
    yield "edges", partial(projection_chart, month, "edges", "png")
    yield "choose", _lazy(lambda: echotally.choose(loaded, sizes=False), choose_chart)
    yield (
        "drain",
        _lazy(lambda: echotally.drain(loaded, "sms", backlog=3_000, limits=[2, 8], plans=PLANS), drain_chart),
    )
    yield "load", _lazy(lambda: echotally.load_trial(loaded, "map", [1, 5, 50], [1, 20], plan=PLANS[0]), load_chart)
    yield "follow", _lazy(lambda: echotally.follow(loaded, plan=PLANS[0]), follow_chart)
    bill = loaded.document.path.parent / "logs/bill.csv"
    checked = echotally.check_model(loaded)
    yield "findings", lambda: findings_chart(checked, "png")
    yield "calendar", lambda: firings_chart(loaded, "png")
    card = load_card(loaded.document.path.parent / "rates/heron.toml")
    yield "rates", lambda: rates_chart(card, "png")
    yield "reconcile", _lazy(lambda: reconcile(month, bill, "heron.shared"), reconcile_chart)


def evidence(loaded: Loaded, month: Projection, folder: Path) -> Iterator[tuple[str, Drawing]]:
    """What is drawn of logs, measurements and saved projections."""
    logs = loaded.document.path.parent / "logs"
    yield "fit", _lazy(lambda: fit(logs / "look.csv", loaded=loaded), fit_chart)
    # Runs that no formula fits are kept as they are.
    (folder / "two.csv").write_text(
        "time,function,run_ms,outcome\n"
        + "".join(f"2027-03-{1 + n // 40:02}T{n % 24:02}:00:00Z,look,{(10, 9_000)[n % 2]},ok\n" for n in range(400))
    )
    yield "fit of samples", _lazy(lambda: fit(folder / "two.csv", loaded=loaded), fit_chart)
    runs = [Run(n, "warm", 0.1 + n % 5 / 50, 0.05, 50 << 20, 10, 5.0, 1 + n % 3, 100) for n in range(1, 30)]
    levels = tuple(Level(k, 10 * k, 1.0, 0.1 * k, 0.1 * k, 0.12 * k) for k in (1, 2, 4))
    for name, tried in (
        ("measure", Tried("python answer.py", "serve", Machine(2.0, "made up", "made up", 0.1, 0.001, 0.0001), tuple(runs))),
        ("measure at once", Tried("https://127.0.0.1/answer", "url", Machine(2.0, "made up", "made up", 0.1, 0.001, 0.0001), tuple(replace(r, events=1) for r in runs), levels)),
    ):  # fmt: skip
        keys = keys_of(tried)
        yield name, partial(measure_chart, Measured(tried, keys, propose(keys, "look")), "png")
    surveyed: list[Survey] = []

    def made() -> Survey:
        surveyed.extend([] if surveyed else [survey(logs / "spans.otlp.json.gz", bills=logs / "bill.csv")])
        return surveyed[0]

    def of_one() -> bytes:
        return function_chart(made().zone, next(iter(made().functions.values())))

    yield "survey", lambda: wiring_chart(made())
    yield "survey of one", of_one
    starts = "".join(f"2027-03-{day:02}T02:{day % 7:02}:00Z,charts,800,ok\n" for day in range(1, 25) if day % 5)
    (folder / "starts.csv").write_text("time,function,run_ms,outcome\n" + starts)
    yield (
        "firings seen",
        _lazy(
            lambda: check_firings(loaded, "nightly-charts", folder / "starts.csv"),
            lambda found, form: firing_check_chart(loaded, found, form),
        ),
    )
    (folder / "before.json").write_text(projection_json(month))
    more = echotally.project(loaded.changed([("demand.gauges.rate", "900 /h")]), plans=["heron.per-run"])
    (folder / "after.json").write_text(projection_json(more))
    yield "compare", _lazy(lambda: compare(folder / "before.json", folder / "after.json"), compare_chart)


def _lazy(ask: Callable[[], Any], draw: Callable[[Any, str], bytes]) -> Drawing:
    asked: list[Any] = []

    def drawn() -> bytes:
        # Asked once, drawn at every width.
        asked.extend([] if asked else [ask()])
        return draw(asked[0], "png")

    return drawn


def _days(*texts: str) -> list[Any]:
    from datetime import date, datetime

    return [date.fromisoformat(text) if len(text) == 10 else datetime.fromisoformat(text) for text in texts]


# -- measuring ----------------------------------------------------------------------------------------------------
def troubles(figure: Any, width: int) -> Iterator[str]:
    """What is wrong with a figure that has been drawn."""
    paper = figure.canvas.get_renderer()
    edge = figure.bbox
    texts = list(_texts(figure, paper))
    for text, box in texts:
        said = repr(text.get_text()[:40])
        if box.x0 < -0.5 or box.y0 < -0.5 or box.x1 > edge.x1 + 0.5 or box.y1 > edge.y1 + 0.5:
            yield f"{said} is cut at the edge"
        if width == PIXELS and float(text.get_fontsize()) < 9:
            yield f"{said} is only {text.get_fontsize()} pt"
    for (one, a), (other, b) in itertools.combinations(texts, 2):
        across, down = min(a.x1, b.x1) - max(a.x0, b.x0), min(a.y1, b.y1) - max(a.y0, b.y0)
        # A pixel of the boxes' own margin is no overlap.
        if across > 1.5 and down > 1.5:
            yield f"{one.get_text()[:40]!r} lies on {other.get_text()[:40]!r}"


def _texts(figure: Any, paper: Any) -> Iterator[tuple[Text, Any]]:
    """The texts that are drawn, with their boxes: labels of ticks beyond the axes, and of axes that are off, are not."""
    hidden: set[Text] = set()
    for axes in figure.axes:
        for axis in (axes.xaxis, axes.yaxis):
            drawn = axis._update_ticks() if axes.axison else []
            every = [*axis.majorTicks, *axis.minorTicks, *([] if axes.axison else [axis])]
            for tick in every:
                if tick not in drawn:
                    hidden |= {tick.label, tick.offsetText} if tick is axis else {tick.label1, tick.label2}
    for text in figure.findobj(Text):
        if text not in hidden and text.get_visible() and text.get_text().strip():
            box = Text.get_window_extent(text, paper)
            if box.width > 0 and box.height > 0:
                yield text, box


@pytest.mark.parametrize(
    # The narrowest, where most could be cut, by day; all by night.
    "widths",
    [pytest.param(WIDTHS[:1], id="by day"), pytest.param(WIDTHS, id="all", marks=pytest.mark.nightly)],
)
def test_pictures(
    loaded: Loaded, month: Projection, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, widths: tuple[int, ...]
) -> None:
    """All charts at some widths: one test, since each study is asked once and drawn at each."""
    figures: list[Any] = []
    printed = FigureCanvasAgg.print_png

    def kept(self: Any, *arguments: Any, **options: Any) -> Any:
        found = printed(self, *arguments, **options)
        figures.append(self.figure)
        return found

    monkeypatch.setattr(FigureCanvasAgg, "print_png", kept)
    wrong: list[str] = []
    for name, draw in drawings(loaded, month, tmp_path, every=len(widths) > 1):
        for width in widths:
            pixels_wide(width)
            try:
                draw()
            finally:
                pixels_wide(PIXELS)
            wrong += [f"{name} at {width}: {trouble}" for trouble in troubles(figures[-1], width)]
    assert wrong == []


# -- colours ------------------------------------------------------------------------------------------------------
def luminance(colour: str) -> float:
    """Relative luminance (WCAG 2.2)."""
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in to_rgb(colour)]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("colour", [INK, QUIET, *(colour for colour, _ in TROUBLES.values())])
def test_text_can_be_read_on_white(colour: str) -> None:
    assert contrast(colour, "white") >= 4.5


def test_lines_are_told_apart_without_colour() -> None:
    looks = {(MARKS[n], DASHES[n]) for n in range(len(COLOURS))}
    assert len(looks) == len(COLOURS) == len(set(MARKS)) == len(set(map(str, DASHES)))
    assert len({mark for _, mark in TROUBLES.values()}) == len(TROUBLES)
