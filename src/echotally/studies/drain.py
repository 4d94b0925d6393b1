"""``drain``: how a queue's backlog is worked off, plan by plan, limit by limit, batch by batch."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal, localcontext
from typing import TYPE_CHECKING, TypedDict, Unpack

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.demand.month import Arrivals
from echotally.engine.build import Built
from echotally.engine.layout import by_rows
from echotally.engine.play import Room, begun, finish, play
from echotally.engine.reading import Measured, read_out
from echotally.engine.sketch import STARTS, wait_quantile
from echotally.errors import BadInput, Problem, TooLarge
from echotally.model.estate import Model
from echotally.model.loading import ModelSource
from echotally.naming import known_name
from echotally.projection.answer import PlanProjection, PlayedPlan
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.metering import meter
from echotally.projection.project import project_plan
from echotally.projection.totals_billed import billed_totals, together
from echotally.projection.when_idle import quantities_when_idle
from echotally.rates.billing import exact
from echotally.rates.card_loading import Offer
from echotally.rates.feasibility import reasons_against
from echotally.showing import Answer

if TYPE_CHECKING:
    import pandas as pd

#: Changes of instance counts that are kept, and the largest backlog tried for ``within``.
_TRAIL, _MOST = 20_000, 20_000_000
#: Points of a backlog over time.
_POINTS = 300


class DrainRow(Struct, frozen=True):
    """One drain. Times in s from its start; ``empty_s`` None where messages are left at the month's end.

    ``oldest_s`` is the longest any message waited for its run; ``starts_s`` when instances began to start;
    ``instances`` (from_s, count) and ``ready`` of them (from_s, count), until the last is gone; ``most_s`` when 99 % were
    handled; ``left`` (from_s, messages not handled yet, those gone otherwise until the queue is empty); ``cost`` what the real month costs more with it; ``clears`` the largest backlog empty within the time asked for
    (None: not asked).
    """

    plan: str
    limit: int | None
    batch: int
    empty_s: float | None
    oldest_s: float | None
    rate_per_s: float | None
    handled: int
    expired: int
    dead_lettered: int
    peak_instances: int
    starts_s: tuple[float, ...]
    instances: tuple[tuple[float, int], ...]
    cost: Decimal
    clears: int | None = None
    most_s: float | None = None
    ready: tuple[tuple[float, int], ...] = ()
    left: tuple[tuple[float, int], ...] = ()


class Drain(Answer, frozen=True):
    """All drains of a queue; ``reasons`` says why plans cannot be used."""

    loaded: Loaded
    queue: str
    function: str
    backlog: int
    within_ns: int | None
    rows: tuple[DrainRow, ...]
    reasons: tuple[tuple[str, str], ...]

    def to_frame(self) -> pd.DataFrame:
        """A row for each plan, limit and batch (``DrainRow``)."""
        from echotally.projection.tables import frame_of

        return frame_of(self.rows)


class ModelWords(TypedDict, total=False):
    """With which overrides a model is played, and on which of its plans, as keywords."""

    sets: Iterable[tuple[str, str]]
    plans: Sequence[str]


def _with_plans(
    path: ModelSource | Loaded, sets: Iterable[tuple[str, str]] = (), plans: Sequence[str] = ()
) -> tuple[Loaded, list[Offer]]:
    loaded = load(path, sets)
    return loaded, loaded.chosen(plans, "--plan")


def drain(
    path: ModelSource | Loaded,
    queue: str,
    backlog: int,
    limits: Sequence[int | None] = (None,),
    *,
    batches: Sequence[int | None] = (None,),
    within_ns: int | None = None,
    **of: Unpack[ModelWords],
) -> Drain:
    """Lay ``backlog`` messages into ``queue``, stop all other demand, and play until it is empty.

    Every plan (the model's, or the ``plans`` named in ``of``) with every limit and batch size; None stands for the model's own.
    Raises ``BadInput``, also for a queue that is not there or that nothing reads.
    """
    loaded, offers = _with_plans(path, **of)
    queue = known_name("queue", "--queue", queue, loaded.model.queues, "queues")
    function = _reader(loaded.model, queue)
    months: dict[str, PlanProjection] = {}
    rows: list[DrainRow] = []
    reasons: list[tuple[str, str]] = []
    too_large: dict[str, TooLarge] = {}
    for offer in offers:
        for limit in limits:
            for batch in batches:
                model = _changed(loaded.model, queue, function, limit, batch)
                against = reasons_against(model, function, offer.plan)
                if against:
                    reasons += [(offer.name, text) for text in against]
                    continue
                # The month beside which a drain is billed does not depend on its limit or batch.
                try:
                    if offer.name not in months and offer.name not in too_large:
                        months[offer.name] = project_plan(loaded, offer, loaded.model.estate.seed)
                except TooLarge as error:
                    too_large[offer.name] = TooLarge(list(error.problems))
                if offer.name in too_large:
                    reasons.append(
                        (offer.name, "not played: even a sample of the month beside which it is billed is too large")
                    )
                    continue
                one = _Trial(replace(loaded, model=model), offer, queue, function, months[offer.name])
                rows.append(one.row(backlog, limit, within_ns))
    if too_large and not rows:
        raise next(iter(too_large.values()))
    return Drain(loaded, queue, function, backlog, within_ns, tuple(rows), tuple(dict.fromkeys(reasons)))


def _reader(model: Model, queue: str) -> str:
    found = next((t.to for t in model.triggers if t.from_ == f"queues.{queue}"), None)
    if found is None:
        raise BadInput(Problem("no function reads this queue", "--queue", value=queue))
    return found


def _changed(model: Model, queue: str, function: str, limit: int | None, batch: int | None) -> Model:
    """The model with this limit and batch, one environment, no backlog anywhere."""
    functions = dict(model.functions)
    if limit is not None:
        functions[function] = functions[function].model_copy(update={"instance_limit": limit})
    triggers = tuple(
        t.model_copy(update={"batch": batch}) if batch is not None and t.from_ == f"queues.{queue}" else t
        for t in model.triggers
    )
    queues = {name: q.model_copy(update={"backlog": 0}) for name, q in model.queues.items()}
    # One environment: a backlog lies in one, and others would share its limits idly.
    name, environment = next(iter(model.environments.items()))
    return model.model_copy(
        update={"functions": functions, "triggers": triggers, "queues": queues, "environments": {name: environment}}
    )


class _Trial:
    """One plan, limit and batch, on which drains of any size can be played."""

    def __init__(self, loaded: Loaded, offer: Offer, queue: str, function: str, real: PlanProjection) -> None:
        self.real = real
        self.loaded, self.offer, self.queue, self.function = loaded, offer, queue, function
        self.placement = placement_on(loaded.model, loaded.offers, offer)
        # A drain is a trial: what the clock brings to the month is no part of it.
        self.arrivals = Arrivals((), loaded.month.length_ns)
        self.batch = next(t.batch for t in loaded.model.triggers if t.from_ == f"queues.{queue}")

    def played(self, backlog: int) -> tuple[Built, Measured, float | None]:
        """The world after the drain, what it measured, and when the queue was empty, s."""
        model = self.loaded.model
        queues = {**model.queues, self.queue: model.queues[self.queue].model_copy(update={"backlog": backlog})}
        laid = model.model_copy(update={"queues": queues})
        built = begun(laid, self.arrivals, self.placement, model.estate.seed, Room(trail=_TRAIL))
        play(built)
        finish(built)
        measured = read_out(laid, built)
        place = next(n for n, (_, source) in enumerate(built.sources) if source == f"queues.{self.queue}")
        ended = int(built.world.sources[place]["ended_at"])
        # Ended last is not ended: messages may come back when the month is over.
        left = any(u.events["unfinished"] for u in measured.units if u.unit.function == self.function)
        return built, measured, None if left or ended >= self.arrivals.length_ns else ended / 1e9

    def row(self, backlog: int, limit: int | None, within_ns: int | None) -> DrainRow:
        built, measured, empty_s = self.played(backlog)
        n, unit = next((n, u) for n, u in enumerate(measured.units) if u.unit.function == self.function)
        handled = unit.events["succeeded"]
        starts, instances, ready = _timeline(built, n, unit.instances.peak)
        # All messages are there at 0 s, so what a message waits and runs is when it is handled.
        latencies = by_rows(built.world.latency_bins)[n] + by_rows(built.world.request_bins)[n]
        most_s = wait_quantile(latencies, 0.99)
        return DrainRow(
            self.offer.name,
            unit.instance_limit if limit is None else limit,
            self.batch,
            empty_s,
            unit.waits.max,
            handled / empty_s if empty_s else None,
            handled,
            unit.events["expired"],
            unit.events["dead_lettered"],
            unit.instances.peak,
            starts,
            instances,
            self._cost(measured),
            None if within_ns is None else self._clears(within_ns / 1e9),
            most_s,
            ready,
            _left(backlog, latencies[0], empty_s),
        )

    def _cost(self, measured: Measured) -> Decimal:
        """What the real month costs more with the drain in it: its quantities beside the month's, billed together.

        Allowances and tiers are used up as they are there. Where the real month cannot run on the plan, beside one in which
        nothing runs.
        """
        metered = meter(self.loaded.model, measured, self.offer)
        quiet = quantities_when_idle(self.loaded, self.offer)
        more = {
            account: {name: total - quiet.get(account, {}).get(name, Decimal(0)) for name, total in totals.items()}
            for account, totals in metered.totals().items()
        }
        now, plans = quiet, metered.plans
        if isinstance(self.real, PlayedPlan):
            now, plans = self.real.metered.totals(), plans | self.real.metered.plans
        with localcontext(exact()):
            return billed_totals(plans, together(now, more)) - billed_totals(plans, now)

    def _clears(self, within_s: float) -> int:
        """The largest backlog that is empty in time: doubled until it is not, then halved between."""

        def fits(backlog: int) -> bool:
            empty_s = self.played(backlog)[2]
            return empty_s is not None and empty_s <= within_s

        if not fits(1):
            return 0
        high = 2
        # Drains grow with what lies there, so that few doublings and halvings cost as much as the last of them.
        while high < _MOST and fits(high):
            high *= 2
        low = high // 2
        while high - low > max(1, low // 500):
            middle = (low + high) // 2
            low, high = (middle, high) if fits(middle) else (low, middle)
        return low


Changes = tuple[tuple[float, int], ...]


def _left(backlog: int, handled: NDArray[np.int64], empty_s: float | None) -> Changes:
    """Messages not handled yet, from each of at most so many instants on, within a bin of the sketch."""
    places = np.flatnonzero(handled)
    gone = np.cumsum(handled[places])
    # Evenly by messages: a line through hundreds of points looks like one through all.
    kept = np.unique(np.searchsorted(gone, np.linspace(0, gone[-1] if len(gone) else 0, _POINTS)))
    kept = kept[kept < len(places)]
    found = [(0.0, backlog), *zip((STARTS[places[kept]] / 1e9).tolist(), (backlog - gone[kept]).tolist(), strict=True)]
    if empty_s is not None:
        found = [*((at, n) for at, n in found if at < empty_s and n > 0), (empty_s, 0)]
    return tuple(found)


def _timeline(built: Built, n: int, peak: int) -> tuple[tuple[float, ...], Changes, Changes]:
    """Times at which instances began to start, the count from each change on, and how many of them are ready."""
    w = built.world
    steps = w.trail[: int(w.clock[0]["trail_n"])]
    own = steps[steps["unit"] == n]
    if not len(own):
        return (), ((0.0, peak),), ((0.0, peak),)
    counts: dict[float, int] = {}
    readies: dict[float, int] = {}
    starts, last, ready, warm = [], 0, 0, bool(built.world.units[n]["floor"])
    # A trail of counts: one more is a start, one less somebody gone; who became ready says so.
    for at, count, became in zip(own["at"] / 1e9, own["count"], own["ready"], strict=True):
        if became:
            ready += 1
        elif count > last:
            if at == 0 and warm:
                ready += 1
            starts.append(float(at))
        else:
            ready -= 1
        if not became:
            counts[float(at)] = last = int(count)
        readies[float(at)] = max(0, min(ready, last))
    return tuple(starts), tuple(counts.items()), tuple(readies.items())
