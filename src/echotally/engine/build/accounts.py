"""Accounts as records, with the instances and nodes that they pay for by the month or share."""

from __future__ import annotations

from typing import Any

from echotally.engine import codes, layout, records
from echotally.engine.build.shared import Shared
from echotally.engine.build.units import short_ramp
from echotally.rates.card import Plan
from echotally.rates.node_room import MOST_NODES

#: Free instances there are at first beside the reserved ones.
_FREE = 16


def crowds_of(units: Any, accounts: Any) -> tuple[Any, Any]:
    """Records of crowds, and of their members' places: the units of an account that need the same of what they share."""
    crowds: list[list[int]] = []
    for account in accounts:
        members = range(int(account["first_unit"]), int(account["first_unit"]) + int(account["unit_n"]))
        found: dict[Any, list[int]] = {}
        for u in members:
            found.setdefault(_needs(units[u], account), []).append(u)
        account["first_crowd"], account["crowd_n"] = len(crowds), len(found)
        crowds += found.values()
    rows, first = layout.records(records.Crowd, len(crowds)), 0
    for x, crowd in enumerate(crowds):
        rows[x]["first"] = first
        units["crowd"][crowd] = x
        first += len(crowd)
    units["crowd_at"] = codes.NONE
    return rows, layout.records(records.Lined, first)


def _needs(unit: Any, account: Any) -> Any:
    """What a call of a unit needs beside a place under the account's limit."""
    if unit["plan_kind"] == codes.RESERVED:
        return int(unit["memory_cost"])
    return (int(unit["memory"]), float(unit["vcpu"])) if account["node_n"] else None


def accounts_of(shared: Shared) -> tuple[Any, Any, Any, int]:
    """Records of accounts, instances and nodes, and how many instances are reserved."""
    found = layout.records(records.Account, len(shared.accounts))
    instances: list[tuple[int, Plan]] = []
    nodes: list[tuple[int, Plan]] = []
    for n, account in enumerate(shared.accounts):
        members = [k for k, unit in enumerate(shared.units) if unit.billed_to == account]
        plan = shared.units[members[0]].offer.plan
        _account(found[n], plan, members)
        found[n]["first_instance"], found[n]["first_node"] = len(instances), len(nodes)
        instances += [(n, plan)] * int(found[n]["instance_n"])
        nodes += [(n, plan)] * int(found[n]["node_n"])
    return found, _reserved(instances), _nodes(nodes, found), len(instances)


def _account(a: Any, plan: Plan, members: list[int]) -> None:
    a["limit"] = -1 if plan.concurrency_limit is None else plan.concurrency_limit
    a["first_unit"], a["unit_n"] = members[0], len(members)
    if plan.scaling.burst is not None and plan.scaling.ramp is not None:
        a["token_level"] = plan.scaling.burst * short_ramp(plan.scaling.ramp, plan.scaling.burst)[1]
    if plan.bills == "reserved":
        a["instance_n"] = plan.instances or 0
        a["cpu_cap"] = (plan.instance_vcpu or 0) * (1 - plan.used_by_others[1])
    if plan.bills == "nodes":
        a["node_n"] = min(plan.nodes_limit or MOST_NODES, MOST_NODES)
        a["nodes_floor"] = plan.nodes_floor
        a["node_start"], a["node_keep_alive"] = plan.node_start, plan.node_keep_alive
        a["node_memory"], a["node_vcpu"] = plan.node_memory, plan.node_vcpu


def _reserved(instances: list[tuple[int, Plan]]) -> Any:
    found = layout.records(records.Instance, len(instances) + _FREE)
    for instance, (account, plan) in zip(found, instances, strict=False):
        instance["unit"], instance["account"], instance["state"] = -1, account, codes.READY
        instance["first_waiting"], instance["active_since"], instance["node"] = -1, -1, -1
        instance["memory_free"] = int((plan.instance_memory or 0) * 1_000_000 * (1 - plan.used_by_others[0]) + 0.5)
    return found


def _nodes(nodes: list[tuple[int, Plan]], accounts: Any) -> Any:
    found = layout.records(records.Node, len(nodes))
    for x, (account, plan) in enumerate(nodes):
        found[x]["account"] = account
        if x - accounts[account]["first_node"] < plan.nodes_floor:
            found[x]["up"], found[x]["memory"], found[x]["vcpu"] = codes.YES, plan.node_memory, plan.node_vcpu
            accounts[account]["nodes_up"] += 1
    return found
