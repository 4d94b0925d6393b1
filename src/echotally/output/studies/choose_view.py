"""A choice of plans and sizes in the terminal and as data."""

from __future__ import annotations

import json
import shlex
from collections.abc import Sequence
from decimal import Decimal

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.model.addresses import dotted
from echotally.model.units import memory_text
from echotally.output.base.charts import new_figure, picture, source_of, titled
from echotally.output.base.terminal import Column, count, money, rendered, seconds, share, shown_in, signed, table
from echotally.output.projection.projection_json import amount_text
from echotally.output.projection.verdict_text import check_text, not_played
from echotally.projection.answer import PlayedPlan
from echotally.projection.showback import showback, splits_of
from echotally.projection.totals import totals_of
from echotally.studies.choice import Choice
from echotally.studies.committing import Commitments


def choose_verdict(found: Choice) -> list[str]:
    """What the choice costs against today, and how good it is known to be."""
    today, chosen = found.today.bill, found.chosen.bill
    assert today is not None and chosen is not None
    currency = chosen.currency
    # Of what is shown, so that whoever subtracts the two figures of the line gets the third.
    change = chosen.shown - today.shown
    met = _kept(found.chosen)
    plans = len(set(found.assignment.values()))
    lines = [
        f"{money(chosen.shown)} {currency} a month on {plans} plan(s), {met}; today {money(today.shown)} on {found.today.offer.name} "
        f"({_kept(found.today)}): {signed(change)}."
    ]
    lines += [f"  it misses {check_text(miss, currency)}." for miss in found.chosen.misses]
    lines += not_played(found.unplayed)
    lines += _made_to_wait(found)
    lines += _unsized(found)
    those = " on plans that were played" if found.unplayed else ""
    sure = f"every assignment{those} was looked at"
    if found.bound is not None and found.bound <= 0:
        # Where a plan bills instances by the month, what one function adds there may be nothing.
        sure = "how much cheaper another assignment could be is not known"
    # How far the choice is from the bound at most: nobody has looked at every assignment of a large estate.
    elif found.bound is not None:
        gap = found.assigned - found.bound
        sure = f"no assignment{those} at today's sizes costs less than {money(found.bound)}, a gap of {money(gap)}"
    lines.append(f"How sure: {found.method}; {sure}; {found.played} months played.")
    return lines


def _made_to_wait(found: Choice) -> list[str]:
    waits = found.made_to_wait()
    if not waits:
        return []
    name, today, chosen = waits[0]
    more = f", and {len(waits) - 1} more come to wait long" if len(waits) > 1 else ""
    return [
        f"No target says how long work may wait: {name} would wait {seconds(chosen)} s at p95 (today {seconds(today)}){more}; "
        "a target wait_p95 keeps it shorter."
    ]


def _kept(plan: PlayedPlan) -> str:
    if plan.misses:
        return f"misses {len(plan.misses)} target(s)"
    return f"{len(plan.undecided)} target(s) undecided" if plan.undecided else "meets every target"


def commitment_lines(each: Commitments, currency: str) -> list[str]:
    """Which commitment is the cheapest, and what it loses when demand falls by a third."""
    best, none = each.cheapest, each.levels[0]
    terms = f"{each.discount * 100:f} % off {', '.join(each.covers)}"
    # The level of nothing is one of them, so the cheapest may be to commit to none.
    if not best.per_hour:
        lines = [f"No commitment on {each.plan} ({terms}) saves anything this month."]
    else:
        lines = [
            f"The cheapest commitment on {each.plan} ({terms}) is {money(best.per_hour)} {currency} an hour: {money(best.cost)} a month"
            f" against {money(none.cost)} without, {money(best.lost)} of it lost."
        ]
        lines.append(
            f"When demand falls by a third it costs {money(best.cost_at_two_thirds)} against {money(none.cost_at_two_thirds)} without:"
            f" {money(best.lost_at_two_thirds)} is lost."
        )
    over = each.cheapest_over_draws
    # A month is one draw: what is cheapest in it need not be over what demand may be.
    if each.draws and over.per_hour != best.per_hour:
        lines.append(
            f"Over {each.draws} draws of the model's ranges {money(over.per_hour)} an hour is cheaper on average"
            f" ({money(over.mean_over_draws)}; {money(best.per_hour)} comes to {money(best.mean_over_draws)})."
        )
    elif each.draws:
        lines.append(
            f"It is so over {each.draws} draws of the model's ranges as well ({money(over.mean_over_draws)} on average)."
        )
    return lines


def commitment_parts(found: Choice, width: int | None) -> list[RenderableType]:
    """The commitments of each plan that sells some."""
    if found.commitments is None:
        return []
    if not found.commitments:
        return [Text("No plan of the cards sells a commitment ([plans.X.commitment]).")]
    parts: list[RenderableType] = []
    for each in found.commitments:
        parts += [Text(safe(line)) for line in commitment_lines(each, found.chosen.bill.currency)]
        rows = [
            [
                ("→ " if level is each.cheapest else "  ") + f"{level.per_hour:f}",
                money(level.cost),
                money(level.lost),
                money(level.cost_at_two_thirds),
                money(level.lost_at_two_thirds),
                money(level.mean_over_draws),
            ]
            for level in each.levels
        ]
        columns = [
            Column("per hour"),
            Column("month"),
            Column("lost"),
            Column("at 2/3 demand"),
            Column("lost", rank=1),
            Column("mean of draws", rank=2),
        ]
        parts.append(table(f"Commitments on {each.plan} ({found.chosen.bill.currency})", columns, rows, width=width))
    return parts


def _commitments(found: Choice) -> list[dict[str, str | None]]:
    return [
        {
            "plan": each.plan,
            "per_hour": f"{level.per_hour:f}",
            "cost": amount_text(level.cost),
            "lost": amount_text(level.lost),
            "cost_at_two_thirds": amount_text(level.cost_at_two_thirds),
            "lost_at_two_thirds": amount_text(level.lost_at_two_thirds),
            "mean_over_draws": amount_text(level.mean_over_draws),
        }
        for each in found.commitments or ()
        for level in each.levels
    ]


def set_lines(found: Choice) -> list[str]:
    """The change against today as it is typed."""
    return [f"--set {shlex.quote(f'{address}={value}')}" for address, value in found.sets]


def choose_text(found: Choice, width: int | None = None, colour: bool | None = None, by: str | None = None) -> str:
    """The verdict, each function's plan and sizes, and the change as overrides."""
    shown_in(found.chosen.bill.currency)
    sizes = dict(found.sets)
    columns = [
        Column("function", False),
        Column("plan", False),
        Column("memory"),
        Column("limit"),
        Column("throttled %", rank=1),
        Column("wait p95 s", rank=1),
        Column("peak inst.", rank=2),
        Column("cost"),
    ]
    rows = []
    for name, function in found.loaded.model.functions.items():
        units = found.chosen.units_of(name)
        totals = totals_of(units)
        # As chosen where a size was, else as the model has it.
        limit = sizes.get(dotted(("functions", name, "instance_limit"))) or function.instance_limit
        rows.append(
            [
                safe(name),
                found.assignment[name],
                sizes.get(dotted(("functions", name, "memory"))) or memory_text(function.memory),
                "–" if limit is None else str(limit),
                share(totals.throttled_share),
                seconds(totals.wait_p95_s),
                count(max(u.instances.peak for u in units)),
                f"{sum(found.chosen.bill.functions[u.key] for u in units):,.4f}",
            ]
        )
    parts: list[RenderableType] = [
        Text(safe(line), style="bold" if n == 0 else "") for n, line in enumerate(choose_verdict(found))
    ]
    parts += [Text(""), table(f"Chosen ({found.chosen.bill.currency})", columns, rows, width=width)]
    parts.append(Text("The change against today:" if found.sets else "Nothing to change.", style="bold"))
    parts += [Text("  " + safe(line)) for line in set_lines(found)]
    parts += [Text(safe(line), style="dim") for line in _kept_sizes(found)]
    if by:
        parts.append(_split_table(found, by, width))
    parts += commitment_parts(found, width)
    return rendered(parts, width, colour)


def choose_chart(found: Choice, form: str) -> bytes:
    """Each function's cost today and as chosen, with its plan; what belongs to no function beside them."""
    today, chosen = found.today.bill, found.chosen.bill
    assert today is not None and chosen is not None
    names = list(found.loaded.model.functions)
    figure, (panel,) = new_figure()
    panel.grid(False, axis="y")
    for shift, bill, label, colour, hatch in (
        (-0.2, today, "today", "#bbbbbb", "///"),
        (0.2, chosen, "chosen", "#0072B2", ""),
    ):
        costs = [sum(float(cost) for key, cost in bill.functions.items() if key[0] == name) for name in names]
        # Adding nothing turns a negative zero into zero, which would be drawn with its sign.
        values = [*costs, round(float(bill.idle + bill.flat), 6) + 0.0]
        places = [n + shift for n in range(len(values))]
        bars = panel.barh(
            places, values, 0.38, label=f"{label}: {money(bill.shown)}", color=colour, hatch=hatch, edgecolor="black"
        )
        panel.bar_label(bars, [f" {money(value)}" for value in values], fontsize=9)
    labels = [f"{name}\n{found.assignment[name]}" for name in names] + ["idle and flat"]
    panel.set_yticks(range(len(labels)), labels)
    # The first function on top, as in the table.
    panel.invert_yaxis()
    panel.set_xlabel(f"cost of the month ({chosen.currency})")
    panel.legend(frameon=False, loc="lower right")
    titled(panel, choose_verdict(found)[0], f"Cost of the month by function ({chosen.currency}), today and as chosen")
    return picture(figure, form, source_of(found.loaded.model))


def _kept_sizes(found: Choice) -> list[str]:
    """Why a smaller memory was not looked at, where a sweep may show that it would be cheaper."""
    names = [name for name, function in found.loaded.model.functions.items() if function.memory_used is None]
    if not names or not found.sized:
        return []
    return [f"Memory is not made smaller where the model does not say what is needed (memory_used): {_few(names)}."]


def _unsized(found: Choice) -> list[str]:
    """Of which functions sizes are left, for the verdict: without them the choice may be dearer than it need be."""
    if not found.unsized:
        return []
    return [
        f"Not every size of {len(found.unsized)} function(s) was tried, as each takes the whole month: {_few(found.unsized)}."
    ]


def _few(names: Sequence[str]) -> str:
    return ", ".join(names[:5]) + (f" and {len(names) - 5} more" if len(names) > 5 else "")


def _beside(found: Choice, by: str) -> list[tuple[tuple[str, ...], Decimal, Decimal]]:
    """Each part of the bill today and as chosen, the dearest first."""
    model = found.loaded.model
    today, chosen = ({s.labels: s.cost for s in showback(model, p, by)} for p in (found.today, found.chosen))
    rows = [(labels, today.get(labels, Decimal(0)), chosen.get(labels, Decimal(0))) for labels in {**today, **chosen}]
    # By the larger of the two, so that what has gone stands where it was dear.
    return sorted((row for row in rows if row[1] or row[2]), key=lambda row: (-max(row[1], row[2]), row[0]))


def _split_table(found: Choice, by: str, width: int | None) -> RenderableType:
    columns = [*(Column(name, False) for name in splits_of(by)), Column("today"), Column("chosen"), Column("change")]
    rows = [
        [*map(safe, labels), money(before), money(after), signed(after - before)]
        for labels, before, after in _beside(found, by)
    ]
    return table(f"By {by.replace(',', ' and ')} ({found.chosen.bill.currency})", columns, rows, width=width)


def _cheapest(each: Commitments) -> dict[str, str | int]:
    return {
        "plan": each.plan,
        "per_hour": f"{each.cheapest.per_hour:f}",
        "per_hour_over_draws": f"{each.cheapest_over_draws.per_hour:f}",
        "draws": each.draws,
    }


def choose_json(found: Choice, by: str | None = None) -> str:
    """The choice as data (schema ``echotally-choice/1``)."""
    data = {
        "schema": "echotally-choice/1",
        "currency": found.chosen.bill.currency,
        "today": {
            "plan": found.today.offer.name,
            "cost": f"{found.today.bill.total:f}",
            "misses": len(found.today.misses),
        },
        "chosen": {
            "cost": f"{found.chosen.bill.total:f}",
            "misses": len(found.chosen.misses),
            "plans": found.assignment,
        },
        "set": [f"{address}={value}" for address, value in found.sets],
        "made_to_wait": [
            {"function": name, "wait_p95_today_s": today, "wait_p95_s": chosen}
            for name, today, chosen in found.made_to_wait()
        ],
        "method": found.method,
        "estimated": found.tried,
        "played": found.played,
        "unsized": list(found.unsized),
        "unplayed": list(found.unplayed),
        "bound": None if found.bound is None else amount_text(found.bound),
    }
    if by:
        data["by"] = [
            {"labels": list(labels), "today": amount_text(before), "chosen": amount_text(after)}
            for labels, before, after in _beside(found, by)
        ]
    if found.commitments is not None:
        data["commitments"] = _commitments(found)
        data["cheapest_commitments"] = [_cheapest(each) for each in found.commitments]
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"
