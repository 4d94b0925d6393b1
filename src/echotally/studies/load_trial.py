"""``load``: the closed-loop trial people run by hand: so many clients, so many instances, what comes of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal, localcontext
from typing import TYPE_CHECKING, TypedDict, Unpack

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine import layout
from echotally.engine.build import Built
from echotally.engine.counted import counted
from echotally.engine.play import Room, begun, finish, play, play_entries
from echotally.engine.reading import UnitMeasured, assemble, levels
from echotally.engine.sketch import Level, Waits, wait_sums
from echotally.errors import BadInput, Problem
from echotally.model.estate import Demand, Endpoint, Function, Model, Trigger
from echotally.model.loading import ModelSource
from echotally.model.sources import SourceRef
from echotally.model.spread import Spread, constant
from echotally.naming import known_name
from echotally.projection.answer import PlanProjection, PlayedPlan
from echotally.projection.bills import make_bill
from echotally.projection.loaded import Loaded, load
from echotally.projection.metering import meter
from echotally.projection.project import project_loaded, project_plan
from echotally.projection.totals_billed import billed_totals, together
from echotally.rates.billing import exact
from echotally.rates.card_loading import Offer, candidates
from echotally.rates.feasibility import reasons_against
from echotally.showing import Answer

if TYPE_CHECKING:
    import pandas as pd

#: Meters that a trial of a few minutes says nothing about.
#: Changes of instances that are kept of a trial.
_TRAIL = 50_000
_BY_THE_MONTH = ("storage_gb_months", "flat_months")
#: Time of attempts by what they came to.
_SPENT = ("warming_ns", "failed_ns", "cut_ns", "again_ns", "running_ns")


class LoadRow(Struct, frozen=True):
    """One trial: ``calls`` answered or refused in ``seconds``; throughput of answers; latency in s of answered calls.

    ``knee``: more clients at this limit bring little throughput and much latency. ``steady_s``: no instance was added after so
    long; ``bound``: the plan's own limit that was reached, in words; ``cold_share``: the share of started calls that waited for an
    instance to start.
    """

    clients: int
    limit: int | None
    calls: int
    seconds: float
    calls_per_s: float
    refused: int
    latency: Waits
    latency_mean_s: float | None
    instances: Level
    concurrency: Level
    cost_per_million: Decimal | None
    knee: bool = False
    month_cost_per_million: Decimal | None = None
    steady_s: float | None = None
    bound: str = ""
    cold_share: float | None = None

    @property
    def refused_share(self) -> float:
        """Refused calls / calls."""
        return self.refused / self.calls if self.calls else 0.0


class LoadTrial(Answer, frozen=True):
    """Every pair of clients and limit; ``enough`` is the limit beyond which more instances bring nothing."""

    loaded: Loaded
    plan: str
    function: str
    rows: tuple[LoadRow, ...]
    enough: int | None
    pause_ns: int = 1_000_000

    def to_frame(self) -> pd.DataFrame:
        """A row for each pair of clients and limit (``LoadRow``)."""
        from echotally.projection.tables import frame_of

        return frame_of(self.rows)


class Asking(Struct, frozen=True):
    """How clients ask: until ``calls`` are answered or refused, or for ``seconds``; each thinks between an answer and its next call.

    What happens in the first ``warm_up_s`` is left out. A refused client pauses at least ``pause_ns`` (left out: 1 ms).
    """

    calls: int = 1_000
    seconds: float | None = None
    warm_up_s: float = 0.0
    think: Spread | None = None
    pause_ns: int | None = None


class AskingWords(TypedDict, total=False):
    """The same, as keywords of ``load_trial``."""

    calls: int
    seconds: float | None
    warm_up_s: float
    think: Spread | None
    pause_ns: int | None


def load_trial(
    path: ModelSource | Loaded,
    function: str,
    clients: Sequence[int],
    limits: Sequence[int | None] = (None,),
    *,
    plan: str | None = None,
    sets: Iterable[tuple[str, str]] = (),
    **words: Unpack[AskingWords],
) -> LoadTrial:
    """Let ``clients`` ask ``function`` again and again (``words``: how, see ``Asking``), on each of the instance ``limits``.

    Only the function runs, alone, on ``plan`` (default: the one ``project`` picks). Raises ``BadInput``, also where the function
    does not fit the plan.
    """
    asking, loaded = Asking(**words), load(path, sets)
    function = known_name("function", "--function", function, loaded.model.functions, "functions")
    offer = _offer(loaded, function, plan)
    against = reasons_against(loaded.model, function, offer.plan)
    if against:
        raise BadInput(Problem(f"{function} does not fit {offer.name}: {'; '.join(against)}", "--plan"))
    # Once for all pairs: what a million answers more cost in the month beside them.
    real = project_plan(loaded, offer, loaded.model.estate.seed)
    bench = _Bench(loaded, function, offer, asking, real)
    rows = [bench.row(n, limit) for limit in limits for n in clients]
    knees = tuple(_with_knees(rows))
    return LoadTrial(loaded, offer.name, function, knees, _enough(rows), asking.pause_ns or 1_000_000)


def _offer(loaded: Loaded, function: str, plan: str | None) -> Offer:
    wanted = plan or loaded.model.functions[function].plan
    able = [
        o.name for o in candidates(loaded.model, loaded.offers) if not reasons_against(loaded.model, function, o.plan)
    ]
    if wanted is None and len(able) == 1:
        # With one plan there is nothing to pick, so the month need not be played.
        wanted = able[0]
    if wanted is None:
        result = project_loaded(loaded, [])
        wanted = result.pick or result.closest or next(iter(loaded.offers))
    return loaded.offer(wanted, "--plan")


def alone(
    model: Model, name: str, function: Function, clients: int, think: Spread, pause_ns: int | None = None
) -> Model:
    """A model in which clients ask one function, it asks whom it asks, and nothing else happens."""
    environment = next(iter(model.environments))
    demand = Demand.model_validate({"into": "endpoints.trial", "clients": clients}).model_copy(
        update={"think": think} | ({"client_pause": pause_ns} if pause_ns else {})
    )
    trigger = Trigger.model_validate({"from": "endpoints.trial", "to": name})
    asked = _asked_from(model, name)
    # Whom it asks must be there to answer, and be asked by nobody else.
    answering = tuple(t for t in model.triggers if t.from_ in asked)
    # What is tried comes first, whatever it asks: its records are the first ones.
    functions = {name: function, **{t.to: model.functions[t.to] for t in answering}}
    # What it puts out would go nowhere; releases and floors by the clock belong to a month, not to a trial.
    still = {"emits": (), "plan": None, "releases": (), "instance_floors": ()}
    return model.model_copy(
        update={
            "functions": {n: f.model_copy(update=still) for n, f in functions.items()},
            "schedules": {},
            "queues": {},
            "streams": {},
            "topics": {},
            "folders": {},
            "endpoints": {"trial": Endpoint(), **{source.name: model.endpoints[source.name] for source in asked}},
            "incidents": (),
            "demand": {"trial": demand},
            "triggers": (trigger, *answering),
            "environments": {environment: model.environments[environment].model_copy(update={"demand": 1.0})},
        }
    )


def _asked_from(model: Model, name: str) -> list[SourceRef]:
    """The endpoints that a function asks, and those that are asked in turn."""
    found: list[SourceRef] = []
    names = [name]
    while names:
        for ask in model.functions[names.pop()].asks:
            if ask.to not in found:
                found.append(ask.to)
                names += [t.to for t in model.triggers if t.from_ == ask.to]
    return found


class _Bench(Struct, frozen=True):
    """A function on a plan, asked by clients; ``real`` is the month beside which it is billed."""

    loaded: Loaded
    name: str
    offer: Offer
    asking: Asking
    real: PlanProjection

    def row(self, clients: int, limit: int | None) -> LoadRow:
        """What comes of so many clients, with this limit on instances (None: the model's own)."""
        asking, seed = self.asking, self.loaded.model.estate.seed
        function = self.loaded.model.functions[self.name]
        if limit is not None:
            function = function.model_copy(update={"instance_limit": limit})
        model = alone(self.loaded.model, self.name, function, clients, asking.think or constant(0), asking.pause_ns)
        trial = self.loaded.with_model(model)
        placement = dict.fromkeys(trial.model.functions, self.offer)
        built = begun(trial.model, trial.month.arrivals, placement, seed, Room(trail=_TRAIL))
        if asking.warm_up_s:
            play(built, int(asking.warm_up_s * 1e9))
            _forget(built)
        began = _now(built)
        last = trial.month.clock.length_ns if asking.seconds is None else began + int(asking.seconds * 1e9)
        built.world.clock[0]["until"] = last
        while (left := asking.calls - _answered(built) - _refused(built)) > 0 and _now(built) < last:
            # One entry of the calendar answers or refuses one call at the most, but for those of one instant.
            if play_entries(built, left):
                break
        cost = _in_month(trial, self.offer, built, began, self.real)
        return replace(_row(trial, self.offer, built, began, clients, limit), month_cost_per_million=cost)


def _now(built: Built) -> int:
    return int(built.world.clock[0]["now"])


def _answered(built: Built) -> int:
    f = built.world.units[0]
    return int(f["succeeded"] + f["failed"] + f["timed_out"])


def _refused(built: Built) -> int:
    return int(built.world.units[0]["rejected"])


def _forget(built: Built) -> None:
    """Start all counts, sketches and levels anew after a warm-up; what is in flight goes on."""
    w, f = built.world, built.world.units[0]
    for name in (
        "attempts",
        "succeeded",
        "failed",
        "timed_out",
        "throttled",
        "calls",
        "started",
        "cold_starts",
        "handled",
        "errored",
        "rejected",
        "billed_ns",
        "busy_ns",
        "life_ns",
        "requests",
        "replies",
        "cold_calls",
        "started_items",
        "served",
        "wait_max",
        "latency_max",
        "again",
        "again_failed",
        "again_cut",
        *_SPENT,
        *(layout.WIDE[name] for name in ("billed_ns", "busy_ns", "life_ns", *_SPENT)),
    ):
        f[name] = 0
    f["level_peak"], f["count_peak"] = f["in_flight"], f["count"]
    for sketch in (w.wait_bins, w.latency_bins, w.request_bins, w.level_bins, w.estate_levels, w.count_bins):
        sketch[:] = 0


def _row(trial: Loaded, offer: Offer, built: Built, began: int, clients: int, limit: int | None) -> LoadRow:
    now = int(built.world.clock[0]["now"])
    length = max(1, now - began)
    answered, refused = _answered(built), _refused(built)
    concurrency, instances = levels(built, 0, length)
    late = layout.by_rows(built.world.latency_bins)[0] + layout.by_rows(built.world.request_bins)[0]
    mean = float(wait_sums(late).sum() / late[0].sum()) / 1e9 if late[0].sum() else None
    unit = _finished(trial, built, length)
    if offer.plan.bills == "reserved":
        instances = Level(float(offer.plan.instances or 0), *[offer.plan.instances or 0] * 3)
    return LoadRow(
        clients,
        limit if limit is not None else unit.instance_limit,
        answered + refused,
        length / 1e9,
        answered / length * 1e9,
        refused,
        unit.latency,
        mean,
        instances,
        concurrency,
        _per_million(trial, offer, built, length, answered),
        steady_s=_steady(built, began),
        bound=_bound(offer, unit, limit),
        cold_share=unit.cold_share,
    )


def _steady(built: Built, began: int) -> float | None:
    """When the last instance was added, s after the trial's start; None where that is not known."""
    w = built.world
    count = int(w.clock[0]["trail_n"])
    if count >= len(w.trail):
        return None
    steps = w.trail[:count]
    ready = steps["at"][(steps["ready"] == 1) & (steps["at"] >= began)]
    return float(ready.max() - began) / 1e9 if len(ready) else 0.0


def _bound(offer: Offer, unit: UnitMeasured, limit: int | None) -> str:
    """The plan's own limit that the trial ran into."""
    plan = offer.plan
    if plan.concurrency_limit is not None and unit.concurrency.peak >= plan.concurrency_limit:
        return f"{offer.name} allows {plan.concurrency_limit:,} calls at once"
    own = plan.instance_limit
    if own is not None and plan.bills != "reserved" and unit.instances.peak >= own and (limit is None or limit > own):
        return f"{offer.name} allows {own:,} instances"
    return ""


def _finished(trial: Loaded, built: Built, length: int) -> UnitMeasured:
    finish(built)
    return assemble(trial.model, built, counted(built, length)).units[0]


def _per_million(trial: Loaded, offer: Offer, built: Built, length: int, answered: int) -> Decimal | None:
    """Cost of the trial's time and work per million answers, allowances and monthly items left out."""
    if not answered:
        return None
    # An allowance would make the first trials free and the last ones dear.
    bare = replace(offer, plan=offer.plan.model_copy(update={"allowance": {}, "commitment": None}))
    measured = assemble(trial.model, built, counted(built, length))
    metered = meter(trial.model, measured, bare)
    plans = {
        account: plan.model_copy(update={"allowance": {}, "commitment": None})
        for account, plan in metered.plans.items()
    }
    units = [(u.unit.function, u.unit.environment) for u in measured.units]
    bill = make_bill(replace(metered, plans=plans), units, offer.card.currency)
    cost = sum((line.amount for line in bill.lines if line.meter not in _BY_THE_MONTH), Decimal(0))
    return cost / answered * 1_000_000


def _in_month(trial: Loaded, offer: Offer, built: Built, began: int, real: PlanProjection) -> Decimal | None:
    """What a million answers more cost in the real month, its own allowances and tiers used up as they are there.

    None where nothing was answered, or the real month cannot run on the plan.
    """
    answered = _answered(built)
    if not answered or not isinstance(real, PlayedPlan):
        return None
    length = max(1, int(built.world.clock[0]["now"]) - began)
    metered = meter(trial.model, assemble(trial.model, built, counted(built, length)), offer)
    now, plans = real.metered.totals(), metered.plans | real.metered.plans
    with localcontext(exact()):
        more = {
            account: {
                name: quantity * 1_000_000 / answered for name, quantity in meters.items() if name not in _BY_THE_MONTH
            }
            for account, meters in metered.totals().items()
        }
        return billed_totals(plans, together(now, more)) - billed_totals(plans, now)


def _with_knees(rows: Sequence[LoadRow]) -> Iterable[LoadRow]:
    """Mark, at each limit, the clients after which a step brings under a tenth more answers but more latency than that."""
    marked: set[int | None] = set()
    for n, row in enumerate(rows):
        after = next((r for r in rows[n + 1 :] if r.limit == row.limit), None)
        flat = after is not None and after.calls_per_s < 1.1 * row.calls_per_s
        # More clients bring as good as no more answers, and everyone waits longer or is refused: that is the knee.
        slower = after is not None and (after.latency_mean_s or 0) > 1.1 * (row.latency_mean_s or 0)
        refuses = after is not None and after.refused_share > row.refused_share
        knee = row.limit not in marked and flat and (slower or refuses)
        if knee:
            marked.add(row.limit)
        yield replace(row, knee=knee)


def _enough(rows: Sequence[LoadRow]) -> int | None:
    """The smallest limit that reaches 95 % of the best throughput; None where that is the largest limit tried."""
    reached: dict[int, float] = {}
    for row in rows:
        if row.limit is not None:
            reached[row.limit] = max(reached.get(row.limit, 0.0), row.calls_per_s)
    best = max(reached.values(), default=0.0)
    good = [limit for limit, rate in reached.items() if rate >= 0.95 * best]
    return min(good) if good and min(good) < max(reached) else None
