"""Overrides of arrays by name, of rate cards, and what goes with something that is taken out."""

from __future__ import annotations

from decimal import Decimal

import pytest

from echotally.errors import BadInput
from echotally.model.addresses import address_parts
from echotally.projection.loaded import load
from echotally.projection.project import project

F = '[functions.{name}]\nmemory = "512 MB"\nrun = "1 s"\ncpu_share = 0\n{more}\n'
ESTATE = (
    F.format(
        name="f", more='emits = [{ into = "queues.out" }]\nasks = [{ to = "endpoints.p" }]\nuses = [{ what = "text" }]'
    )
    + F.format(name="g", more='releases = [{ at = "2027-03-02T00:00" }, { cron = "0 0 3 3 *" }]')
    + """
[queues.in]
dead_letter = "queues.out"
[queues.out]
[endpoints.p]
[topics.t]
feeds = [{ into = "queues.out" }, { into = "queues.in", share = 0.5 }]
[schedules.s]
cron = "0 0 * * *"
[demand.d]
into = "queues.in"
rate = "1 /h"
[demand.t]
into = "topics.t"
rate = "1 /h"
[[triggers]]
from = "queues.in"
to = "f"
[[triggers]]
from = "endpoints.p"
to = "g"
[[triggers]]
from = "schedules.s"
to = "g"
dead_letter = "queues.out"
[outside.text]
unit = "0.1"
[[incidents]]
name = "a. b"
at = "2027-03-01T00:00"
lasts = "1 h"
functions = ["f", "g"]
run_times = 2
"""
)


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("functions.f.memory", ("functions", "f", "memory")),
        ('incidents."a. b".lasts', ("incidents", "a. b", "lasts")),
        ('triggers."queues.in>f"', ("triggers", "queues.in>f")),
        ("triggers.0", ("triggers", "0")),
        ("a..b", ("a", "", "b")),
    ],
)
def test_parts_of_an_address_may_stand_in_quotes(text, parts):
    assert address_parts(text) == parts


def loaded(write, *sets):
    return load(write(ESTATE), sets)


def test_elements_of_arrays_go_by_number_or_by_name(write):
    for address in ('incidents."a. b".run_times', "incidents.0.run_times"):
        assert loaded(write, (address, "5")).model.incidents[0].run_times == 5
    for address in ('triggers."queues.in>f".batch', "triggers.0.batch"):
        assert loaded(write, (address, "5")).model.triggers[0].batch == 5
    assert len(loaded(write, ("functions.g.releases.0", "")).model.functions["g"].releases) == 1
    with pytest.raises(BadInput, match=r'0 to 0, counted from the top, or "a\. b"'):
        loaded(write, ("incidents.none.lasts", "1 h"))


@pytest.mark.parametrize(
    ("address", "gone"),
    [
        ("schedules.s", ['triggers."schedules.s>g"']),
        ("queues.in", ["demand.d", 'triggers."queues.in>f"', "topics.t.feeds (queues.in)"]),
        (
            "queues.out",
            ["queues.in.dead_letter", "triggers.2.dead_letter", "functions.f.emits (queues.out)", "topics.t.feeds (queues.out)"],
        ),
        ("endpoints.p", ['triggers."endpoints.p>g"', "functions.f.asks (endpoints.p)"]),
        ("topics.t", ["demand.t"]),
        ("outside.text", ["functions.f.uses (text)"]),
        ("functions.f", ['triggers."queues.in>f"', 'incidents."a. b" (f)']),
        ("triggers.1", ["functions.f.asks (endpoints.p)"]),
        ("triggers", ["functions.f.asks (endpoints.p)"]),
    ],
)  # fmt: skip
def test_what_points_to_it_goes_with_it_and_is_listed(write, address, gone):
    found = loaded(write, (address, ""))
    assert found.document.along == gone
    assert found.month.notes == (f"taken out with it: {', '.join(gone)}",)


def test_an_estate_without_triggers_has_a_bill(write):
    found = project(write(ESTATE, prices='storage_gb_months = { unit = "1000" }'), [("triggers", "")]).played[0]
    # Two packages of 10 MB.
    assert found.totals.attempts["total"] == 0 and found.bill.total == 20


def test_a_value_of_a_card_is_set_by_its_address_and_exactly(write):
    path = write(ESTATE, prices='calls = { unit = "1" }')
    found = project(path, [("cards.test.plans.plan.price.calls.unit", "0.1"), ("triggers.2", "")]).played[0]
    line = next(line for line in found.bill.lines if line.meter == "calls")
    assert line.amount == line.quantity * Decimal("0.1")
    for address, said in (
        ("cards.nobody.plans", "no such rate card"),
        ("cards.test.plans.plan.vcpu_per_gb", "vcpu_per_gb"),
    ):
        with pytest.raises(BadInput, match=said):
            load(path, [(address, "-1")])
    # Another point of a study has the card as it was.
    again = load(path).changed([("cards.test.plans.plan.instance_limit", "3")])
    assert again.offers["test.plan"].plan.instance_limit == 3
    assert again.changed([]).offers["test.plan"].plan.instance_limit == 3
    assert load(path).offers["test.plan"].plan.instance_limit is None
