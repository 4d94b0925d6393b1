"""Has every rule look and tries what each suggests, side by side: most of their time goes into playing.

On threads all rules look before any change is tried. In processes, for many functions, a change is tried as soon as its rule is
done: one rule may play a month of everything while all others only read.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import NamedTuple

from echotally.findings.context import Context, Told
from echotally.findings.rule import RULES, Noticed, Rule, Sets
from echotally.projection.crew import Weighed, share_work
from echotally.projection.memory import give_back_memory
from echotally.projection.threads import Progress, part_of, side_by_side

Looked = list[tuple[Rule, list[Noticed]]]
#: Rules that try several values of each function.
_LONG = ("C01", "L05", "T01")


class _Task(NamedTuple):
    """What a process is asked to do: have a rule look, or try one of the changes it suggests."""

    code: str
    sets: Sets | None = None


class _Found(NamedTuple):
    """What became of it: what the rule noticed, and what was tried for that."""

    noticed: list[Noticed]
    told: Told


def looked(views: Mapping[str, Context], aside: bool, progress: Progress | None = None) -> Looked:
    """What each rule notices, looking at its own of ``views``, where every change that may be given has been tried after.

    ``aside``: by several processes.
    """
    found = _aside(views, progress) if aside else _on_threads(views, progress)
    return [(rule, found[rule.code]) for rule in RULES.values()]


def _on_threads(views: Mapping[str, Context], progress: Progress | None) -> dict[str, list[Noticed]]:
    rules = {code: partial(_looks, RULES[code], ctx) for code, ctx in views.items()}
    found = dict(zip(views, side_by_side(rules, part_of(progress, 0, 0.5), called="findings"), strict=True))
    # In the order in which they were noticed, before threads take them in any.
    asked = {sets: ctx for code, ctx in views.items() for sets in _to_try(ctx, found[code])}
    changes = {str(n): partial(_tries, ctx, sets) for n, (sets, ctx) in enumerate(asked.items())}
    side_by_side(changes, part_of(progress, 0.5, 1), called="findings")
    return found


def _looks(rule: Rule, ctx: Context, tell: Callable[[float], None]) -> list[Noticed]:
    noticed = list(rule.look(ctx))
    tell(1.0)
    return noticed


def _tries(ctx: Context, sets: Sets, tell: Callable[[float], None]) -> None:
    ctx.trial(sets)
    tell(1.0)


def _to_try(ctx: Context, noticed: Sequence[Noticed]) -> list[Sets]:
    """Those of the changes that are to be played and were not."""
    return [n.sets for n in noticed if n.sets and ctx.is_tried(n.sets) and n.sets not in ctx.tried]


def _aside(views: Mapping[str, Context], progress: Progress | None) -> dict[str, list[Noticed]]:
    """By rule, by several processes, each of which has all contexts."""
    # What all share is found once; what playing the plans has left free would be each process's.
    next(iter(views.values())).get_ready()
    give_back_memory()
    found, begun = dict[str, list[Noticed]](), set[Sets]()

    def do(task: _Task) -> _Found:
        ctx = views[task.code]
        if task.sets is not None:
            ctx.try_change(task.sets)
            return _Found([], ctx.told((task.sets,)))
        known = set(ctx.tried)
        noticed = list(RULES[task.code].look(ctx))
        # Others may put in what they tried meanwhile.
        return _Found(noticed, ctx.told([sets for sets in tuple(ctx.tried) if sets not in known]))

    def took(task: _Task, result: _Found) -> list[Weighed[_Task]]:
        ctx = views[task.code]
        ctx.takes_over(result.told, asked=task.sets is None)
        if task.sets is not None:
            return []
        found[task.code] = result.noticed
        new = [sets for sets in _to_try(ctx, result.noticed) if sets not in begun]
        begun.update(new)
        return [Weighed(ctx.work_of(sets), _Task(task.code, sets)) for sets in new]

    # Rules before changes, and those before others that try most.
    first = [Weighed(math.inf, _Task(code)) for code in sorted(views, key=lambda code: code not in _LONG)]
    share_work(first, do, took, partial(progress, "findings") if progress else None)
    return found
