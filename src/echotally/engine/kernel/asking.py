"""A call asks endpoints once its own run is over, and goes on running until it has its answers (rule 8.5).

A *round* is what a call asks at one instant. An answer belongs to a round by its number, so that one that comes after its asker was
ended, or failed for another answer, finds nobody (rules 7.40 and 7.66).
"""

from __future__ import annotations

from echotally.engine.codes import ANSWERED, ASK_STREAM, ASKED_STREAM, ASKING, END, K_ANSWERED, YES, ZERO
from echotally.engine.kernel import diary, pools
from echotally.engine.kernel.access import World, call_at, clock_of, edge_at, event_at, unit_at
from echotally.engine.kernel.calendar import put
from echotally.engine.kernel.chance import many_along, size_along
from echotally.engine.kernel.compiled import hot, kernel


@kernel
def sends(w: World, c: int, n: int) -> bool:
    """Ask, for ``n`` events, from the call's next ask on until one of them asks anything; False where none does."""
    call = call_at(w, c)
    unit = unit_at(w, call.unit)
    while call.asks < unit.ask_n:
        out = many_along(w, unit.first_ask + call.asks, unit.random + ASK_STREAM, n)
        if out > 0:
            _sent(w, c, n, out)
            return True
        # Where the lot gives none, the call goes on at that instant (rule 7.68).
        call.asks += 1
    return False


@kernel
def _sent(w: World, c: int, n: int, out: int) -> None:
    clock, call = clock_of(w), call_at(w, c)
    unit = unit_at(w, call.unit)
    x = unit.first_ask + call.asks
    edge = edge_at(w, x)
    clock.askings += 1
    call.asking = clock.askings
    call.open = out
    call.state = ASKING
    edge.sent += out
    diary.asks(w, c)
    for k in range(out):
        size = size_along(w, x, unit.random + ASKED_STREAM)
        diary.for_whom(w, k * n // out)
        pools.expect_request(w, edge.target, size, c)


@hot
def answers(w: World, e: int, good: int) -> None:
    """Event ``e`` has been answered, ``good`` NO by an error or a refusal: if a call asked, it may go on."""
    if event_at(w, e).asker >= 0:
        _heard(w, e, good)


@kernel
def _heard(w: World, e: int, good: int) -> None:
    event = event_at(w, e)
    c = event.asker
    call = call_at(w, c)
    if call.state != ASKING or call.asking != event.asking:
        return
    call.open -= 1
    if not good and edge_at(w, unit_at(w, call.unit).first_ask + call.asks).needs == YES:
        call.failed = YES
    # It goes on within this instant, among the runs that end: the kernels of two functions never stand in each other.
    if call.open == 0 or call.failed == YES:
        call.state = ANSWERED
        call.asking = ZERO
        put(w, clock_of(w).now, END, call.number, K_ANSWERED, c)
