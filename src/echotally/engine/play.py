"""Runs a simulation: calls the kernels, gives them room, listens for Ctrl-C, reports progress."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from echotally.demand.month import Arrivals
from echotally.engine import codes, layout, records
from echotally.engine.build import Built, Site
from echotally.engine.compiling import form
from echotally.engine.machines import HERE, Machines
from echotally.engine.pools import with_room
from echotally.engine.reading import Measured, marked, read_out
from echotally.engine.watch import USUAL, Bounds, Watch
from echotally.errors import OurFault
from echotally.model.estate import Model
from echotally.rates.card_loading import Offer

if TYPE_CHECKING:
    from echotally.engine.apart.remembering import Memory

Progress = Callable[[float], None]


class Marks(NamedTuple):
    """Instants, ns since the month's start and rising, at which what had been measured until then is kept (``reading.marked``).

    At ``passing_ns`` lives and active periods count up to the instant, at ``ended_ns`` where they end.
    """

    ended_ns: tuple[int, ...] = ()
    passing_ns: tuple[int, ...] = ()


NO_MARKS = Marks()


class Wanted(NamedTuple):
    """What is asked of the playing of a month beside its figures; no part of it changes them.

    ``bounds``: what it may take. ``starts``: when start tokens were taken is kept as well. ``marks``: what had been measured at
    some instants as well. ``cores``: on how many threads independent parts may be played (``engine.apart``); ``places``: where.
    ``memory``: of a study, whose months have parts in common. ``quantities_only``: no levels, waits and hours are read, nor kept
    where the month is played jointly, which takes a third less of hundreds of functions.
    """

    bounds: Bounds = USUAL
    starts: bool = False
    marks: Marks = NO_MARKS
    cores: int = 1
    places: Machines = HERE
    memory: Memory | None = None
    quantities_only: bool = False


class Room(NamedTuple):
    """How much of its own story a world has room to keep (1: none of it); one that keeps any is watched.

    ``trail``: changes of instance counts, with their times; ``diary``: attempts; ``cargo``: lines of what attempts held and of
    where events came from.
    """

    trail: int = 1
    diary: int = 1
    cargo: int = 1


#: What most ask for.
PLAIN, BARE = Wanted(), Room()


def simulate(
    model: Model,
    arrivals: Arrivals,
    placement: Mapping[str, Offer],
    seed: int,
    progress: Progress | None = None,
    wanted: Wanted = PLAIN,
) -> Measured:
    """Play the month event by event, jointly; ``progress`` is told the share of the month that is over."""
    marks = wanted.marks
    built = begun(model, arrivals, placement, seed)
    if wanted.quantities_only:
        keep_quantities(built)
    if wanted.starts:
        keep_log(built, codes.STARTS_ONLY)
    watch, ended, passed = Watch(built, wanted.bounds), [], []
    marked_ns = {*marks.ended_ns, *marks.passing_ns}
    for at in sorted(marked_ns.union(() if wanted.quantities_only else _put_by_ns(built))):
        play_watched(built, watch, at, progress)
        built.puts_hours_by()
        if at not in marked_ns:
            continue
        flushed(built)
        ended += [marked(model, built, at, False)] if at in marks.ended_ns else []
        passed += [marked(model, built, at, True)] if at in marks.passing_ns else []
    play_watched(built, watch, None, progress)
    flushed(built)
    finish(built)
    found = replace(read_out(model, built, wanted.quantities_only), marks=tuple(ended), passed=tuple(passed))
    return replace(found, starts_ns=_starts_of(built)) if wanted.starts else found


def _put_by_ns(built: Built) -> range:
    """When hours that are over are put by."""
    clock = built.world.clock[0]
    every = int(clock["hour_ns"]) * built.hours_at_once
    return range(every, int(clock["horizon"]), every)


def keep_log(built: Built, what: int, lines: int = 0) -> None:
    """Let a world keep a log from now on: ``codes.STARTS_ONLY`` or ``codes.WHOLE_LOG``; so many lines are expected in one stretch."""
    built.world = built.world._replace(log=np.zeros(2 * int(built.world.clock[0]["margin"]) + 64 + lines, np.int64))
    built.world.clock[0]["keeps_log"] = what


def keep_quantities(built: Built) -> None:
    """Let a world that has just begun keep no waits, latencies, charges and levels: nothing but quantities is asked for."""
    clock = built.world.clock[0]
    clock["lean"] = codes.YES
    # A level that never began weighs nothing.
    clock["level_since"] = built.world.units["level_since"] = codes.NEVER


def _starts_of(built: Built) -> dict[tuple[str, str], NDArray[np.int64]]:
    log = built.world.log[: int(built.world.clock[0]["log_n"])]
    account = log & (2 ** int(codes.LOG_WHAT_SHIFT) - 1)
    return {key: log[account == n] >> codes.LOG_TIME_SHIFT for n, key in enumerate(built.accounts)}


def begun(model: Model, arrivals: Arrivals, placement: Mapping[str, Offer], seed: int, room: Room = BARE) -> Built:
    """A world at its first instant: backlogs laid, floors ready, nothing played yet."""
    return begun_on(Site(model, placement), model, arrivals, seed, room)


def begun_on(site: Site, model: Model, arrivals: Arrivals, seed: int, room: Room = BARE) -> Built:
    """As ``begun``, on a site made before, of the model and where its functions are placed."""
    built = site.built(arrivals, seed)
    _lay_backlogs(model, built)
    # No lines of what was there before: there may be any number of it, at one instant.
    page = 4 * int(built.world.clock[0]["margin"])
    built.world = built.world._replace(
        trail=layout.records(records.Change, room.trail),
        diary=layout.records(records.Attempt, max(room.diary, page) if room.diary > 1 else 1),
        carried=layout.records(records.Carried, max(room.cargo, page) if room.cargo > 1 else 1),
        born=layout.records(records.Born, max(room.cargo, page) if room.cargo > 1 else 1),
    )
    built.world = with_room(built.world)
    ask(built.world, codes.BEGIN)
    return built


def ask(world: Any, what: Any, a: int = 0, b: int = 0) -> int:
    """Let the kernels do one thing (``codes.BEGIN`` ...) with the world; returns a state or a count."""
    kernels = form()
    return kernels.run(kernels.door(world), what, a, b)


def play(built: Built, until_ns: int | None = None, progress: Progress | None = None, bounded: bool = True) -> None:
    """Play on to ``until_ns`` after the start, before anything of that instant happens, or to the end.

    Integrals over time are brought up to that instant. Raises ``BadInput`` where work does not end at one instant or,
    ``bounded``, where it is tried so often that the month would not be over in reasonable time.
    """
    play_watched(built, Watch(built, Bounds(bounded)), until_ns, progress)
    flushed(built)


def flushed(built: Built) -> None:
    """Bring every integral over time up to this instant."""
    _asked(built, codes.FLUSH)


def _asked(built: Built, what: Any, a: int = 0, b: int = 0) -> int:
    """As ``ask``, by the door that the world has already."""
    kernels = form()
    return kernels.run(built.door(kernels.door), what, a, b)


def play_watched(built: Built, watch: Watch, until_ns: int | None, progress: Progress | None) -> None:
    """As ``play``, with a watch that may have looked before, and with integrals left where they are."""
    kernels = form()
    built.world.clock[0]["until"] = codes.NEVER if until_ns is None else until_ns
    while (state := kernels.run(built.door(kernels.door), codes.PLAY, watch.chunk(), 0)) not in (
        codes.DONE,
        codes.REACHED,
    ):
        if state == codes.MORE_ROOM:
            watch.grows()
            built.world = with_room(built.world)
            continue
        watch.looks()
        if progress:
            clock = built.world.clock[0]
            progress(int(clock["now"]) / int(clock["horizon"]))


def play_entries(built: Built, entries: int) -> bool:
    """Play on by at most so many calendar entries, fewer where a page is full before; whether the month is over.

    Integrals are brought up to the instant.
    """
    kernels, clock = form(), built.world.clock[0]
    until = int(clock["steps"]) + entries
    # Where room runs out in between, only what is left is played after it.
    while (
        state := kernels.run(built.door(kernels.door), codes.PLAY, until - int(clock["steps"]), 0)
    ) == codes.MORE_ROOM:
        before = [*map(len, built.world)]
        built.world = with_room(built.world)
        if [*map(len, built.world)] == before:
            # Nothing was low but the page.
            break
    kernels.run(built.door(kernels.door), codes.FLUSH, 0, 0)
    return state == codes.DONE


def attempts(built: Built) -> Iterator[NDArray[Any]]:
    """Play to the month's end, handing over the attempts that ended, as records ``attempt``, a chunk at a time.

    Times are ns since the month's start, ``outcome`` one of SUCCEEDED, FAILED, TIMED_OUT, THROTTLED. The world
    must have been begun with a diary; raises ``OurFault`` if it overflows.
    """
    # An entry of the calendar ends one run and refuses few calls; a quarter of the diary leaves room for them.
    return (page.attempts for page in pages(built, len(built.world.diary) // 4))


class Page(NamedTuple):
    """A stretch of the diary: attempts that ended, the events they held, where events that arrived came from."""

    attempts: NDArray[Any]
    carried: NDArray[Any]
    born: NDArray[Any]


def pages(built: Built, entries: int) -> Iterator[Page]:
    """Play to the month's end, handing over the diary every ``entries`` of the calendar, or as soon as a page is full.

    What an attempt puts out stands on its page. Raises ``OurFault`` if a page overflows.
    """
    clock = built.world.clock[0]
    clock["keeps_diary"] = codes.YES
    over, kept = False, None
    while not over:
        over = play_entries(built, entries)
        page = _page(built)
        if kept:
            page = Page(*map(np.concatenate, zip(kept, page, strict=True)))
        kept = None
        # What was put out arrives after all that ends at its instant; a page may be full in between.
        if not over and clock["expected_n"] > 0:
            page, kept = _of_this_instant(page, clock)
        yield page


def _of_this_instant(page: Page, clock: Any) -> tuple[Page, Page]:
    """A page without the attempts that ended at this instant, and those with all that is theirs."""
    since = int(np.searchsorted(page.attempts["ended"], clock["now"]))
    first = int(clock["noted"]) - len(page.attempts) + since
    carried, put_out = page.carried["attempt"] >= first, page.born["origin"] >= first
    return (
        Page(page.attempts[:since], page.carried[~carried], page.born[~put_out]),
        Page(page.attempts[since:], page.carried[carried], page.born[put_out]),
    )


def _page(built: Built) -> Page:
    """What was written since the last page, which is written over from here on."""
    clock, found = built.world.clock[0], []
    for name, count in {"diary": "diary_n", "carried": "carried_n", "born": "born_n"}.items():
        lines = getattr(built.world, name)
        if int(clock[count]) >= len(lines) > 1:
            raise OurFault(f"the {name} of {len(lines)} lines overflowed")
        found.append(lines[: int(clock[count])].copy())
        clock[count] = 0
    return Page(*found)


def finish(built: Built) -> None:
    """The month's end: what is in flight is billed, what is left is counted."""
    while _asked(built, codes.FINISH) == codes.MORE_ROOM:
        built.world = with_room(built.world)


def _lay_backlogs(model: Model, built: Built) -> None:
    for source, count in built.backlogs:
        left = count
        while left > 0:
            left -= _asked(built, codes.BACKLOG, source, left)
            if left > 0:
                built.world = with_room(built.world)
