"""What incidents made of a month: the tables of the terminal and the page."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from echotally.errors import safe
from echotally.output.base.terminal import Column, count, money, seconds, table
from echotally.projection.answer import IncidentEffect, PlayedPlan

HEADINGS = ("incident", "cost", "left behind %", "wait p95 s")


def incident_row(effect: IncidentEffect) -> list[str]:
    """An incident's differences: signed, so that a saving reads as one."""
    wait = "–" if effect.wait_p95_s is None else _signed(seconds(abs(effect.wait_p95_s)), effect.wait_p95_s)
    cost, share = float(effect.cost), 100 * effect.left_behind
    return [safe(effect.name), _signed(money(abs(effect.cost)), cost), _signed(f"{abs(share):.2f}", share), wait]


def _signed(text: str, value: float) -> str:
    # What rounds to nothing has no sign.
    return text if not text.strip("0.,") else ("−" if value < 0 else "+") + text


def helping_lines(plan: PlayedPlan, currency: str) -> list[str]:
    """What would have helped in each incident, as it was played."""
    found = []
    for effect in plan.incidents or ():
        if effect.helped:
            sets = ", ".join(f"--set {address}='{value}'" for address, value in effect.helped.sets)
            saved, served = effect.helped.saved, effect.helped.served
            said = [f"{money(saved)} {currency} less"] if saved > 0 else []
            said += [f"{count(served)} events fewer left behind"] if served else []
            found.append(f"Would have helped in {effect.name}: {sets} (played: {', '.join(said) or 'a little'})")
    return [safe(line) for line in found]


def incident_parts(plan: PlayedPlan, currency: str, width: int | None) -> Iterator[RenderableType]:
    """The table of one plan, and what would have helped."""
    if not plan.incidents:
        return
    columns = [Column(HEADINGS[0], False, True), *(Column(name) for name in HEADINGS[1:])]
    title = f"Incidents on {plan.offer.name}: this month less the month without each ({currency})"
    yield table(title, columns, [incident_row(effect) for effect in plan.incidents], width=width)
    yield from (Text(line) for line in helping_lines(plan, currency))
