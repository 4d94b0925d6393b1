"""``firings``: every schedule of a model, when it fires, whether it overlaps itself, what other cadences cost."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from decimal import Decimal
from functools import partial

from msgspec import Struct

from echotally.demand.clock import to_utc
from echotally.demand.preview import CADENCES, Preview, preview
from echotally.demand.schedules import month_firings_ns, zone_of
from echotally.engine.sampling import worth_sampling
from echotally.model.addresses import dotted
from echotally.model.estate import Schedule
from echotally.model.loading import ModelSource
from echotally.model.units import duration_text
from echotally.projection.crew import by_processes
from echotally.projection.loaded import Loaded, load, placement_on
from echotally.projection.playing import USUAL, Playing
from echotally.projection.project import project_loaded, why_not
from echotally.projection.threads import Progress
from echotally.projection.trial import Trials
from echotally.rates.billing import rounded_total
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import run_ns
from echotally.showing import Answer

#: Of months of more expected events cadences are costed only where that is asked for, as samples of about so many.
_LARGE, _EFFORT = 2_000_000, 200_000
#: A cadence that brings so many times the events is not costed.
_TIMES = 2.0
#: From so many schedules on it pays to begin other processes.
_WORTH_MORE = 8


class Cadence(Struct, frozen=True):
    """A neighbouring cadence: firings in the month, the estate's cost on the picked plan (None: infeasible, or far more events than now)."""

    name: str
    firings: int
    cost: Decimal | None


class ScheduleView(Struct, frozen=True):
    """One schedule of the model: its preview, its overlap with its own runs in words, other cadences."""

    name: str
    preview: Preview
    overlap: str
    cadences: tuple[Cadence, ...]


class FiringsView(Answer, frozen=True):
    """All schedules of a model, and the plan on which the cadences are costed."""

    loaded: Loaded
    plan: str | None
    currency: str
    cost_now: Decimal | None
    schedules: tuple[ScheduleView, ...]


def view_firings(
    path: ModelSource | Loaded,
    sets: Iterable[tuple[str, str]] = (),
    count: int = 10,
    after: datetime | None = None,
    *,
    cadences: bool = False,
    progress: Progress | None = None,
    aside: bool = False,
) -> FiringsView:
    """Look at every schedule of a model; the cadences are costed on the picked (else closest) plan.

    Of a large month the plan is None where all say the same of runs.
    ``count`` firings are listed, strictly after ``after`` (in the schedule's zone unless it has an offset), else from
    the month's start. Of a month of more than two million events cadences are costed only where ``cadences`` asks for it.
    ``aside``: those of several schedules by several processes (see ``by_processes``).
    """
    loaded = load(path, sets)
    if cadences or loaded.expected_events(loaded.chosen([])[0]) <= _LARGE:
        now = project_loaded(loaded, [], None, progress, None)
        plan, best = now.pick or now.closest, now.best
        offer = loaded.offers[plan] if plan else None
        others = _cadences(loaded, Trials(loaded, best, _LARGE, _EFFORT) if best else None, progress, aside)
    else:
        offer, plan = _to_look_at_runs(loaded, progress)
        best, others = None, {}
    views = []
    for name, schedule in loaded.model.schedules.items():
        expression = schedule.cron or schedule.rrule or f"every {duration_text(schedule.every or 0)}"
        zone = loaded.model.estate.timezone
        start = after or loaded.month.clock.start - timedelta(microseconds=1)
        if start.tzinfo is None:
            start = to_utc(start, zone_of(schedule, zone))
        seen = preview(schedule, expression, zone, start, count, loaded.model.estate.month)
        views.append(ScheduleView(name, seen, _overlap(loaded, name, schedule, offer), others.get(name, ())))
    currency = loaded.chosen([])[0].card.currency
    return FiringsView(loaded, plan, currency, best.bill.total if best else None, tuple(views))


def _to_look_at_runs(loaded: Loaded, progress: Progress | None) -> tuple[Offer | None, str | None]:
    """A plan to look at runs on, where no cost is shown, and its name; None for the name where all plans say the same of them.

    Only where they do not is the plan that would be picked found, by a small sample where that is sooner done.
    """
    placed = {o.name: placement_on(loaded.model, loaded.offers, o) for o in loaded.chosen([])}
    able = [o for o in loaded.chosen([]) if not why_not(loaded, placed[o.name])]
    said = {tuple(_overlap(loaded, name, s, offer) for name, s in loaded.model.schedules.items()) for offer in able}
    if len(able) < 2 or len(said) == 1:
        return able[0] if able else None, able[0].name if len(able) == 1 else None
    # Of many functions with few events each the month itself is sooner played.
    sampled = any(worth_sampling(loaded.model, loaded.month, placed[o.name], _LARGE) for o in able)
    how = Playing(sampled_from=0, effort=_EFFORT) if sampled else USUAL
    now = project_loaded(loaded, [], None, progress, None, how)
    plan = now.pick or now.closest
    return loaded.offers[plan] if plan else None, plan


def _cadences(
    loaded: Loaded, trials: Trials | None, progress: Progress | None, aside: bool
) -> dict[str, tuple[Cadence, ...]]:
    """Of each schedule the same job at all cadences."""
    schedules = loaded.model.schedules

    def of_one(name: str) -> tuple[Cadence, ...]:
        return tuple(_cadence(name, schedules[name], other, loaded, trials) for other in CADENCES)

    if aside and trials is not None and len(schedules) >= _WORTH_MORE:
        # When start tokens were taken is found once for all processes.
        _ = trials.tokens.times
        return dict(
            zip(schedules, by_processes([partial(of_one, n) for n in schedules], "cadences", progress), strict=True)
        )
    found = {}
    for n, name in enumerate(schedules):
        found[name] = of_one(name)
        if progress:
            progress("cadences", (n + 1) / len(schedules))
    return found


def _cadence(name: str, schedule: Schedule, other: str, loaded: Loaded, trials: Trials | None) -> Cadence:
    """The same job at another cadence, and what the estate would then cost."""
    changed = schedule.model_copy(update={"cron": CADENCES[other], "every": None, "rrule": None, "seconds": False})
    times = month_firings_ns(changed, loaded.month.clock, loaded.model.estate.timezone)
    return Cadence(other, len(times), _cost(name, changed, loaded, trials) if trials else None)


def _cost(name: str, changed: Schedule, loaded: Loaded, trials: Trials) -> Decimal | None:
    """The estate's cost with a schedule changed: only the part that the schedule belongs to is played.

    None too where so many more events would come that playing them takes long: nobody turns to that cadence to save money.
    """
    written = loaded.document.data["schedules"][name]
    gone = [(dotted(("schedules", name, key)), "") for key in ("every", "rrule", "seconds") if key in written]
    sets = (*gone, (dotted(("schedules", name, "cron")), f'"{changed.cron}"'))
    most, expected = max(_LARGE, _TIMES * trials.expected), trials.expected_events(sets)
    if expected is not None and expected > most:
        return None
    if pair := trials.pair(sets):
        before, after = pair
        # A sample of the part says what changes, not what the month costs.
        bill = trials.base.bill
        return rounded_total(after.cost - before.cost + bill.unrounded, bill.currency) if after else None
    schedules = {**loaded.model.schedules, name: changed}
    busier = loaded.with_model(loaded.model.model_copy(update={"schedules": schedules}))
    if busier.expected_events(trials.base.offer) > most:
        return None
    result = project_loaded(busier, [trials.base.offer.name], workers=None)
    return result.played[0].bill.total if result.played else None


def _overlap(loaded: Loaded, name: str, schedule: Schedule, offer: Offer | None) -> str:
    """Whether firings come closer together than the runs they start, in words."""
    gap = loaded.month.firings[name].closest_ns
    functions = [t.to for t in loaded.model.triggers if t.from_ == f"schedules.{name}"]
    if not functions or offer is None:
        return "no function is triggered" if not functions else "no plan can run it"
    longest = max(functions, key=lambda f: loaded.model.functions[f].run.mean)
    function = loaded.model.functions[longest]
    plan = loaded.offers[function.plan].plan if function.plan else offer.plan
    limit = min(function.timeout, plan.timeout_limit or function.timeout) / 1e9
    whole = [run_ns(function, plan, function.run.quantile(q), schedule.items) / 1e9 for q in (0.5, 0.99)]
    # A run ends at its timeout, however long it would be.
    typical, long = (min(each, limit) for each in whole)
    runs = f"a run of {longest} takes {typical:,.1f} s, the longest in a hundred {long:,.1f} s"
    if whole[1] > limit:
        runs += f" (cut at the timeout of {limit:,.0f} s)"
    if gap is None:
        return f"{runs}; fires at most once in the month"
    word = (
        "no overlap"
        if long * 1e9 < gap
        else ("every firing overlaps the last" if typical * 1e9 >= gap else "some overlap")
    )
    return f"{runs}; the shortest gap between firings is {gap / 1e9:,.0f} s: {word}"
