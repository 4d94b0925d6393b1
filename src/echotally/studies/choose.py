"""``choose``: which plan for which function, and the smallest limit, memory and batch that keep the targets.

Assignments are first estimated, then played. Every plan is played once with all functions that fit it; the
quantities each function used there are put together for any assignment and billed as they would be: allowances
shared, reserved instances and flat items once. The best estimates are then played, of large months as samples first;
the cheapest that meets the targets is chosen, and goes as far towards a cheaper one that misses some as they allow.
``assignments`` estimates and searches, ``assigned`` plays.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from decimal import Decimal
from functools import partial
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from echotally.engine.apart import simulate_month
from echotally.engine.machines import HERE, Machines, machines
from echotally.errors import BadInput, Problem
from echotally.model.addresses import dotted
from echotally.model.loading import ModelSource
from echotally.model.units import memory_text
from echotally.projection.answer import PlanProjection, PlayedPlan, RefusedPlan
from echotally.projection.crew import by_processes
from echotally.projection.loaded import Loaded, load
from echotally.projection.metering import Metered, meter
from echotally.projection.threads import Progress
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer, candidates
from echotally.rates.feasibility import reasons_against
from echotally.studies.assigned import EFFORT, AssignedMonths
from echotally.studies.assignments import Estimated, Estimates, Used
from echotally.studies.choice import Choice, Sets
from echotally.studies.committing import commitments
from echotally.studies.holding import SomeMonths, holding
from echotally.studies.near_ones import sorted_out
from echotally.studies.size_trials import SizeTrials
from echotally.studies.standing import Stood, function_of, harmed, is_no_worse, rank, seems
from echotally.studies.warm_hours import warm_hours
from echotally.studies.work import month_work, sample_work

#: So many of the best estimates are played, fewer where that takes more than so much work (``work.month_work``): of many functions the
#: best differ by one or two. As much work again goes into following a cheaper one, and into sizes that do not hold all together.
_PLAYED, _WORK, _FEWEST = 12, 20_000_000, 2
#: So few are played side by side before any could be laid beside the first.
_FEW = 3
#: So many months of a large estate, at the least, are played as ``project`` plays them to find the sizes that hold all together: by
#: samples they do.
_WHOLE = 4
#: Of a large month, so many of those that are best by samples are played as ``project`` plays them, before one is taken.
_FINALISTS = 3
#: Samples of large months played at once: no part of them is, and the same number everywhere finds the same.
_AT_ONCE = 2
#: Sizes of so many functions, and those of large months, are tried part by part by several processes: most of a small part's time is
#: the interpreter's.
_MANY = 64
_Result = tuple[Stood, dict[str, str]]
_ONCE = ("reserved_hours", "node_hours")
_BATCHES = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000)


def with_commitments(
    found: Choice, seed: int | None = None, progress: Callable[[str, float], None] | None = None
) -> Choice:
    """The choice with the commitments that its plans sell, billed against its month (``committing``)."""
    loaded = found.loaded.changed(found.sets) if found.sets else found.loaded
    the_seed = loaded.model.estate.seed if seed is None else seed
    return replace(found, commitments=tuple(commitments(loaded, found.chosen, the_seed, progress)))


def choose(
    path: ModelSource | Loaded,
    sets: Iterable[tuple[str, str]] = (),
    seed: int | None = None,
    sizes: bool = True,
    progress: Callable[[str, float], None] | None = None,
    cluster: str | None = None,
) -> Choice:
    """The cheapest assignment that meets the targets (else with the fewest misses), then sizes (``sizes``).

    Today is the plan ``project`` picks, else the closest, with the model's pins. Raises ``BadInput`` where some function
    fits no plan. A plan whose month is too large even for a sample is left out, and said to be (``Choice.unplayed``).
    ``cluster``: the address of a Dask scheduler whose workers play the months of whole assignments.
    """
    loaded = load(path, sets)
    with machines(cluster) as places:
        chooser = _Chooser(loaded, loaded.model.estate.seed if seed is None else seed, progress, places)
        return _chosen(chooser, sizes)


def _chosen(chooser: _Chooser, sizes: bool) -> Choice:
    today = chooser.today()
    assignment, tried, method, bound = chooser.best_assignment()
    pins = chooser.pins(assignment)
    plain = chooser.months.play(assignment)
    sized = chooser.sizes(assignment) if sizes else ()
    if chooser.months.large and sized:
        sized = _seem_to_hold(chooser, assignment, sized)
    # What decided on a sample of a large month, or in a part of an estate, need not hold in the whole of it.
    width = _AT_ONCE if chooser.months.large else 1
    some_months = SomeMonths(lambda some: chooser.months.if_played(assignment, some), chooser.whole_played, width)
    chosen, sized = holding(plain, sized, some_months, is_no_worse, chooser.blames)
    if some_months.refused:
        method += "; finding the sizes that hold all together was cut short"
    return Choice(
        chooser.loaded,
        today,
        chosen,
        assignment,
        (*pins, *sized),
        method,
        tried,
        chooser.months.played,
        bound,
        plain.bill.unrounded,
        sized=sizes,
        unsized=tuple(chooser.unsized),
        unplayed=chooser.unplayed,
    )


def _seem_to_hold(chooser: _Chooser, assignment: dict[str, str], sized: Sets) -> Sets:
    """Sizes of a large month that seem no worse together by small samples, so that few of those that are told must be played."""
    some_months = SomeMonths(
        lambda some: chooser.months.if_played(assignment, some, rough=True), chooser.soon_played, _AT_ONCE
    )
    plain = chooser.months.if_played(assignment, (), rough=True)
    seems_no_worse = partial(is_no_worse, ranked=seems)
    return holding(plain, sized, some_months, seems_no_worse, chooser.blames)[1] if plain else sized


class _Chooser(Struct, dict=True):
    loaded: Loaded
    seed: int
    progress: Callable[[str, float], None] | None
    places: Machines

    def __post_init__(self) -> None:
        model = self.loaded.model
        self.months = AssignedMonths(self.loaded, self.seed, self._seen, self.places)
        self.todays: dict[str, str] = {}
        self.unsized: list[str] = []
        self.unplayed: tuple[str, ...] = ()
        self._cut_short = False
        #: How many months, of large ones as small samples, are soon played: of small estates hundreds; and as ``project`` plays them.
        self.soon_played = self.whole_played = _FEWEST
        self.functions = list(model.functions)
        self.offers = candidates(model, self.loaded.offers)
        self.fits = {
            name: [o.name for o in self.offers if not reasons_against(model, name, o.plan)] for name in self.functions
        }
        lost = [name for name, plans in self.fits.items() if not plans]
        if lost:
            raise BadInput(Problem(f"no plan can take {', '.join(lost)}; 'echotally project' says why"))
        # Each plan with all functions that fit it.
        self.widest = {
            offer.name: {name: offer.name if offer.name in fits else fits[0] for name, fits in self.fits.items()}
            for offer in self.offers
            if any(offer.name in fits for fits in self.fits.values())
        }

    def today(self) -> PlayedPlan:
        """What the model's own pins and the plan that would be picked cost."""
        pinned = {name: function.plan for name, function in self.loaded.model.functions.items()}
        of_offer = [{name: plan or offer.name for name, plan in pinned.items()} for offer in self.offers]
        # As ``project`` would: every candidate with the pins as written.
        likely = self._likely(of_offer)
        found = self.months.each([of_offer[n] for n in likely], self.progress)
        feasible = [
            (seen.stood, self.offers[n], of_offer[n]) for seen, n in zip(found, likely, strict=True) if seen.stood
        ]
        if feasible:
            _, offer, self.todays = min(feasible, key=lambda each: rank(each[0]))
            today = replace(self.months.play(self.todays), offer=offer)
        else:
            today = self.months.play({n: fits[0] for n, fits in self.fits.items()})
        units, large = self.loaded.model.units, self.months.large
        of_month = month_work(today.totals.attempts["total"], units)
        self.soon_played = max(_FEWEST, int(_WORK / (sample_work(EFFORT, units) if large else of_month)))
        self.whole_played = min(self.soon_played, max(_WHOLE, int(_WORK / of_month))) if large else self.soon_played
        return today

    def _likely(self, assignments: Sequence[dict[str, str]]) -> list[int]:
        """The places of those that may be the best: of a large month samples tell of most that they are not."""
        if not self.months.large:
            return list(range(len(assignments)))
        seen = [each.stood for each in self.months.each(assignments, self.progress, rough=True)]
        stood = [each for each in seen if each]
        return [n for n, its in enumerate(seen) if its and not any(its.is_surely_behind(other) for other in stood)]

    # -- estimates ----------------------------------------------------------------------------------------------
    def used(self) -> dict[str, Used]:
        """What each function used on each plan, which is played once with the functions that fit it.

        Plans whose months are too large even for a sample are left out from here on. Raises ``TooLarge`` where a function has no other.
        """
        played = self.months.each(list(self.widest.values()), self.progress, rough=True, if_known=True)
        used = {plan: seen.used[plan] for plan, seen in zip(self.widest, played, strict=True) if plan in seen.used}
        self.unplayed = tuple(plan for plan in self.widest if plan not in used)
        self.offers = [offer for offer in self.offers if offer.name not in self.unplayed]
        self.fits = {name: [plan for plan in plans if plan in used] for name, plans in self.fits.items()}
        if not all(self.fits.values()):
            self.months.play(self.widest[self.unplayed[0]])
        return used

    def _seen(self, month: PlanProjection, assignment: Mapping[str, str]) -> _Seen:
        if isinstance(month, RefusedPlan) and month.feasible is None:
            return _Seen(None, {})
        used = {
            plan: _used_on(plan, self._metered(month, assignment, self.loaded.offers[plan]))
            for plan, widest in self.widest.items()
            if widest == assignment
        }
        return _Seen(Stood.in_(month) if isinstance(month, PlayedPlan) else None, used)

    def _metered(self, month: PlanProjection, assignment: Mapping[str, str], offer: Offer) -> Metered:
        if isinstance(month, PlayedPlan):
            return month.metered
        # Functions that find no room beside each other may each find some; what they use is the same.
        placement = {name: self.loaded.offers[plan] for name, plan in assignment.items()}
        measured = simulate_month(self.loaded.model, self.loaded.month.arrivals, placement, self.seed)
        return meter(self.months.placed(assignment).model, measured, offer)

    def best_assignment(self) -> tuple[dict[str, str], int, str, Decimal | None]:
        """Estimate, play the best estimates, take the cheapest that meets the targets.

        Estimates know nothing of targets: where what is chosen is dearer than the best of them, which misses some, it goes as far
        towards that as the targets allow.
        """
        accounts = len({environment.account for environment in self.loaded.model.environments.values()})
        # First, since it leaves plans out.
        used = self.used()
        estimated = Estimates(self.offers, self.fits, used, accounts).search()
        anyway = [*self._uniform(), *([self.todays] if self.todays else [])]
        tried, told = self._near_the_best(estimated, anyway)
        for one in anyway:
            tried += [one] if one not in tried else []
        # Where none has room beside the others, the first says why.
        results = self._played(tried, rough=True) or [(Stood.in_(self.months.play(tried[0])), tried[0])]
        ranked = sorted(results, key=lambda r: (seems(r[0]), list(r[1].values())))
        cheapest = min(results, key=lambda r: r[0].cost)
        if cheapest[0].misses > ranked[0][0].misses:
            ranked[:0] = self._towards(cheapest, ranked[0])
        if self.months.large:
            # Samples of so few events part what differs by some percent, and today is to be beaten by what is told of both.
            finalists = [a for n, (_, a) in enumerate(ranked) if n < _FINALISTS or a == self.todays]
            ranked = self._played(finalists) or ranked
        chosen = min(ranked, key=lambda r: (rank(r[0]), list(r[1].values())))[1]
        how = f"{estimated.method}; the best {len(tried) + told} played"
        if told:
            how += f", {told} of them in the parts that they change"
        if self._cut_short:
            how += "; following a cheaper one was cut short"
        return chosen, estimated.count, how, estimated.bound

    def _near_the_best(
        self, estimated: Estimated, anyway: Sequence[dict[str, str]]
    ) -> tuple[list[dict[str, str]], int]:
        """Those of the best estimates that are to be played, and how many others their parts have shown to be no better; some are
        played ``anyway``.
        """
        most = min(_PLAYED, self.soon_played)
        first, *others = (dict(zip(self.functions, a, strict=True)) for a in estimated.best()[:most])
        base = self.months.whole(first, rough=True) if most > _FEW else None
        if base is None:
            return [first, *others], 0
        pinned = load(self.loaded.document.path, self._with_pins(first), like=self.loaded)
        to_play, told = sorted_out(self.months, base, first, pinned, [one for one in others if one not in anyway])
        return [first, *to_play], told

    def _towards(self, cheap: _Result, sound: _Result) -> list[_Result]:
        """As many functions of a sound assignment on their plans in a cheap one as leave it no worse; what saves most goes first. Empty
        where none does.
        """

        def played(some: Sets) -> Stood | None:
            assignment = sound[1] | dict(some)
            (seen,) = self.months.each([assignment], rough=True)
            return seen.stood

        # Of what differs by little, sample is laid beside sample.
        (base,) = self.months.each([sound[1]], rough=True)
        moves = [(name, plan) for name, plan in cheap[1].items() if sound[1][name] != plan]
        moves.sort(key=lambda move: cheap[0].functions[move[0]] - sound[0].functions[move[0]])
        some_months = SomeMonths(played, self.soon_played, _AT_ONCE if self.months.large else 1)
        stood, kept = holding(base.stood or sound[0], moves, some_months, lambda new, old: seems(new) <= seems(old))
        self._cut_short = some_months.refused
        return [(stood, sound[1] | dict(kept))] if kept else []

    def _played(self, tried: list[dict[str, str]], *, rough: bool = False) -> list[_Result]:
        """Those that find room."""
        played = self.months.each(tried, self.progress, rough=rough, if_known=True)
        return [(seen.stood, a) for seen, a in zip(played, tried, strict=True) if seen.stood]

    def _uniform(self) -> Iterator[dict[str, str]]:
        """Every plan that takes all functions, on its own."""
        for offer in self.offers:
            if all(offer.name in plans for plans in self.fits.values()):
                yield dict.fromkeys(self.functions, offer.name)

    # -- sizes --------------------------------------------------------------------------------------------------
    def pins(self, assignment: dict[str, str]) -> Sets:
        """Overrides that pin each function to its plan, where it is not so pinned."""
        functions = self.loaded.model.functions
        return tuple((dotted(("functions", n, "plan")), p) for n, p in assignment.items() if functions[n].plan != p)

    def sizes(self, assignment: dict[str, str]) -> Sets:
        """Function by function the smallest memory, batch, hours of a floor and instance limit that miss and cost no more."""
        pinned = load(self.loaded.document.path, self._with_pins(assignment), like=self.loaded)
        trials = SizeTrials(self.months, assignment, pinned)
        chosen: Sets = ()
        names = self.functions
        if len(names) >= _MANY or self.months.large:
            sized = self._sized_by_part(assignment, trials)
            chosen = tuple(each for found in sized.values() for each in found or ())
            names = [name for name, found in sized.items() if found is None]
        chosen = self._sized(names, assignment, trials, chosen, self.progress)
        self.unsized = [name for name in self.functions if name in trials.untried]
        return chosen

    def _sized_by_part(self, assignment: dict[str, str], trials: SizeTrials) -> dict[str, Sets | None]:
        """Sizes of each function, or of the first of those of a part all of them; None where it takes the whole month to say."""
        parts = trials.by_part(self.functions)

        def sized(names: list[str]) -> tuple[Sets | None, int]:
            before = self.months.played
            trials.begin_in_parts()
            found = self._sized(names, assignment, trials, (), None)
            # Whoever has asked counts what was played, here or in another process.
            played, self.months.played = self.months.played - before, before
            return found if trials.end_in_parts() else None, played

        # Threads that talk to other machines are no company for a process that begins with all of this one's.
        beside = None if self.places is HERE else 0
        answers = by_processes([partial(sized, names) for names in parts], "sizes", self.progress, beside)
        self.months.played += sum(played for _, played in answers)
        found: dict[str, Sets | None] = {}
        for names, (of_part, _) in zip(parts, answers, strict=True):
            found |= dict.fromkeys(names, of_part and ()) | {names[0]: of_part}
        return found

    def _sized(
        self,
        names: Sequence[str],
        assignment: dict[str, str],
        trials: SizeTrials,
        chosen: Sets,
        progress: Progress | None,
    ) -> Sets:
        """Sizes of some functions, one after the other, beside what was chosen."""
        trials.take(chosen)
        for number, name in enumerate(names):
            plan = self.loaded.offers[assignment[name]].plan
            for options in (self._memories(name, plan), *self._batches(name)):
                better = next((sets for sets in options if trials.no_worse(name, (*chosen, sets))), None)
                if better is not None:
                    chosen = (*chosen, better)
                    trials.take(chosen)
            if plan.bills != "reserved":
                for sets in self._hours(name, trials):
                    if trials.no_worse(name, (*chosen, *sets)):
                        chosen = (*chosen, *sets)
                        trials.take(chosen)
                        break
                limit = self._limit(name, trials, chosen)
                if limit is not None:
                    chosen = (*chosen, (dotted(("functions", name, "instance_limit")), str(limit)))
            if progress:
                progress("sizes", (number + 1) / len(names))
        return chosen

    def blames(self, sizes: Sets, new: PlayedPlan, old: PlayedPlan) -> list[bool]:
        """Of each size whether its function fares worse in a month with all of them than in the old one."""
        functions = [function_of(address, self.loaded.model.triggers) for address, _ in sizes]
        worse = harmed({*functions}, new, old)
        return [function in worse for function in functions]

    def _with_pins(self, assignment: dict[str, str]) -> list[tuple[str, str]]:
        return [
            *self.loaded.document.changed_sets(),
            *((dotted(("functions", n, "plan")), p) for n, p in assignment.items()),
        ]

    def _memories(self, name: str, plan: Plan) -> list[tuple[str, str]]:
        """Sizes sold below today's that hold what a run uses, smallest first (at most eight)."""
        function = self.loaded.model.functions[name]
        now = plan.memory.round_up(function.memory) or function.memory
        sizes: list[int] = []
        size = plan.memory.round_up(function.memory_used or function.memory)
        while size is not None and size < now and len(sizes) < 200:
            sizes.append(size)
            size = plan.memory.round_up(size + 1)
        # Spread over all that there are; each is a month to play.
        few = sizes[:: max(1, -(-len(sizes) // 8))]
        return [(dotted(("functions", name, "memory")), memory_text(size)) for size in few]

    def _batches(self, name: str) -> Iterator[list[tuple[str, str]]]:
        """Smaller batches of each of its queues and streams, smallest first."""
        for number, trigger in enumerate(self.loaded.model.triggers):
            if trigger.to == name and trigger.batch > 1:
                yield [(f"triggers.{number}.batch", str(n)) for n in _BATCHES if n < trigger.batch]

    def _hours(self, name: str, trials: SizeTrials) -> Iterator[Sets]:
        """A floor by the hours in place of one all day, fewest hours first, where a target says what it is there for."""
        function, estate = self.loaded.model.functions[name], self.loaded.model.targets
        for_what = (function.targets.wait_p95, function.targets.latency_p95, estate.wait_p95, estate.latency_p95)
        if function.instance_floor and not function.instance_floors and any(t is not None for t in for_what):
            yield from warm_hours(trials.measured, self.loaded.month.clock, name, function.instance_floor)

    def _limit(self, name: str, trials: SizeTrials, chosen: Sets) -> int | None:
        """The smallest instance limit that misses no more, by bisection below the most instances there were."""
        # More than there ever were changes nothing, so that the search begins there.
        high = trials.most_instances(name, chosen) or 0
        low = 0
        while high - low > 1:
            middle = (low + high) // 2
            if not trials.misses_no_more(name, (*chosen, (dotted(("functions", name, "instance_limit")), str(middle)))):
                low = middle
            else:
                high = middle
        now = self.loaded.model.functions[name].instance_limit
        return None if high < 1 or high == now else high


class _Seen(NamedTuple):
    """What is kept of a month: how it stood (None: it could not be played), and what was used on plans that took all they can."""

    stood: Stood | None
    used: dict[str, Used]


def _used_on(name: str, metered: Metered) -> Used:
    """What was used on a plan, of all that was metered."""
    kept: Used = {}
    for (account, plan), of_account in metered.quantities.items():
        if plan != name:
            continue
        for meter_name, parts in of_account.items():
            for key, quantity in parts.items():
                # Instances and nodes are paid once for the whole plan, whoever uses them.
                meters = kept.setdefault(None if meter_name in _ONCE else key, {})
                meters[account, meter_name] = meters.get((account, meter_name), 0.0) + float(quantity)
    return kept
