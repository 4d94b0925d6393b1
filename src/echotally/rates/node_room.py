"""Which instance floors find room on a plan's nodes, and which functions could then never start.

Why it exists: floors never go, so nodes that floors fill are full for good (rule 7.33). That can be
said before anything is played.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from echotally.model.estate import Model
from echotally.rates.card import Plan
from echotally.rates.card_loading import Offer
from echotally.rates.unit_settings import unit_settings

#: Nodes without a limit of their own are capped here, so that the pool of nodes is bounded.
MOST_NODES = 2_000


class FloorRoom(Struct, frozen=True):
    """A function's floor in one environment: how many of its ``wanted`` instances find room, and whether it can start."""

    function: str
    environment: str
    wanted: int
    found: int
    can_start: bool


def floors_on_nodes(model: Model, placement: Mapping[str, Offer]) -> list[FloorRoom]:
    """First fit in node order, functions in the file's order, environments after one another; only nodes plans."""
    accounts: dict[tuple[str, str], list[tuple[str, str]]] = {}
    for environment, settings in model.environments.items():
        for name in model.functions:
            if placement[name].plan.bills == "nodes":
                accounts.setdefault((settings.account or "", placement[name].name), []).append((name, environment))
    return [room for (_, plan), members in accounts.items() for room in _one_account(model, placement, members, plan)]


def _one_account(
    model: Model, placement: Mapping[str, Offer], members: Sequence[tuple[str, str]], plan_name: str
) -> list[FloorRoom]:
    plan = placement[members[0][0]].plan
    # Free memory and vCPUs of each node, in the order in which nodes come up.
    nodes: list[tuple[float, float]] = []
    found = []
    for name, _ in members:
        memory, vcpu = _asked(model, name, plan)
        here = 0
        for _ in range(_floor(model, name, plan)):
            if not _place(nodes, plan, memory, vcpu):
                break
            here += 1
        found.append(here)
    rooms = []
    for (name, environment), here in zip(members, found, strict=True):
        # Another instance, on top of all floors: what a function without one of its own needs to start at all.
        can_start = here > 0 or _place(list(nodes), plan, *_asked(model, name, plan))
        rooms.append(FloorRoom(name, environment, _floor(model, name, plan), here, can_start))
    return rooms


def _floor(model: Model, name: str, plan: Plan) -> int:
    limit = unit_settings(model.functions[name], plan).limit
    floor = model.functions[name].instance_floor
    return floor if limit is None else min(floor, limit)


def _asked(model: Model, name: str, plan: Plan) -> tuple[float, float]:
    settings = unit_settings(model.functions[name], plan)
    return float(settings.memory_mb), float(plan.vcpu_each or settings.vcpu)


def _place(nodes: list[tuple[float, float]], plan: Plan, memory: float, vcpu: float) -> bool:
    """Take room on the first node that fits, or on a further one; False where neither is to be had."""
    for n, (free_memory, free_vcpu) in enumerate(nodes):
        # Parts of a vCPU are floats: ten tenths must fit into one.
        if free_memory >= memory and free_vcpu >= vcpu - 1e-9:
            nodes[n] = (free_memory - memory, free_vcpu - vcpu)
            return True
    node_memory, node_vcpu = float(plan.node_memory or 0), float(plan.node_vcpu or 0)
    if len(nodes) >= min(plan.nodes_limit or MOST_NODES, MOST_NODES) or node_memory < memory or node_vcpu < vcpu - 1e-9:
        return False
    nodes.append((node_memory - memory, node_vcpu - vcpu))
    return True
