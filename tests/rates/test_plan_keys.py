"""Keys of a plan: like another, items that are switched, forms of schedule, and what is refused in numbers."""

from __future__ import annotations

from decimal import Decimal

import pytest

from echotally.errors import BadInput
from echotally.projection.loaded import load
from echotally.projection.project import project
from tests.engine.test_by_hand import function, source

HEAD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.one]
bills = "runs"
memory = { from = "128 MB", to = "8 GB", step = "64 MB" }
vcpu_per_gb = 2
scaling = { kind = "per-call", burst = 5, ramp = "5 /min" }
push = { give_up = "1 h" }
flat = { watch = "9.00", help = { unit = "20", on = false } }
[plans.one.price]
calls = { per = 1000, unit = "1" }
log_gb = { unit = "3" }
[plans.one.allowance]
calls = 10
"""
MODEL = function() + source("folders.x", 20)


def plans(write, more: str):
    return load(write(MODEL, card=HEAD + more)).offers


def test_a_plan_like_another_takes_what_it_does_not_say_table_by_table(write):
    found = plans(
        write,
        '[plans.two]\nlike = "one"\nslots_limit = 3\npush = { longest_wait = "1 min" }\n[plans.two.price]\ncalls = { unit = "5" }\n',
    )
    one, two = (found[f"test.{name}"].plan for name in ("one", "two"))
    assert two.slots_limit == 3 and one.slots_limit is None
    assert (two.push.give_up, two.push.longest_wait) == (one.push.give_up, 60 * 10**9)
    # Of the prices one is another and the other stays; an allowance and the scaling are taken along.
    assert (two.price["calls"].unit, two.price["calls"].per, two.price["log_gb"]) == (5, 1, one.price["log_gb"])
    assert (two.allowance, two.scaling) == (one.allowance, one.scaling)


def test_another_form_of_a_table_is_taken_whole(write):
    polled = 'scaling = { kind = "polled", every = "30 s", per_instance = 1, step = 1 }'
    two = plans(write, f'[plans.two]\nlike = "one"\nmemory = {{ choices = ["1 GB"] }}\n{polled}\n')["test.two"].plan
    assert two.memory.choices == (1024,) and two.scaling.burst is None


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('[plans.two]\nlike = "ono"\n', "did you mean one"),
        ('[plans.two]\nlike = "one"\n[plans.three]\nlike = "two"\n', "like one that is like another"),
        ('[plans.two]\nlike = "one"\nburst = 3\n', "unknown key"),
    ],
)  # fmt: skip
def test_likes_that_lead_nowhere_are_refused(write, more, said):
    with pytest.raises(BadInput, match=said):
        plans(write, more)


def test_an_item_that_is_off_is_not_billed_until_it_is_switched_on(write):
    path = write(MODEL, card=HEAD)
    for sets, flat in (((), 9), ((("cards.test.plans.one.flat.help.on", "true"),), 29)):
        assert project(path, sets).played[0].bill.flat == Decimal(flat)


@pytest.mark.parametrize(
    ("schedule", "form"),
    [
        ('cron = "0 0 * * *"', "five"), ('cron = "@daily"', "five"), ('cron = "0 0 0 * * *"\nseconds = true', "seconds-first"),
        ('cron = "0 0 * * ? *"', "year-last"), ('every = "1 h"', "every"), ('rrule = "FREQ=DAILY"', "rrule"),
    ],
)  # fmt: skip
def test_a_plan_takes_the_forms_of_schedule_it_lists(write, schedule, form):
    model = function() + f'[schedules.s]\n{schedule}\n[[triggers]]\nfrom = "schedules.s"\nto = "f"\n'
    takes = project(write(model, keys=f'cron_dialect = ["{form}"]'))
    assert takes.played
    other = "every" if form == "five" else "five"
    refused = project(write(model, keys=f'cron_dialect = ["{other}"]')).refused[0]
    assert refused.reasons == (("f", f"schedules.s is written as {form}; this plan takes {other}"),)


def test_what_is_refused_is_told_in_numbers_of_the_month(write):
    # 10,000 files of which a tenth has 200 MB, and a tenth of runs takes 20 min.
    payload = 'payload = { mix = [{ share = 0.9, constant = "1 MB" }, { share = 0.1, constant = "200 MB" }] }'
    run = '{ mix = [{ share = 0.9, constant = "1 s" }, { share = 0.1, constant = "20 min" }] }'
    model = function().replace('"1 s"', run, 1).replace('"1 min"', '"1 h"') + source(
        "folders.x", 10_000, demand=payload
    )
    refused = project(write(model, keys='payload_limit = "100 MB"\ntimeout_limit = "5 min"')).refused[0]
    texts = [text for _, text in refused.reasons]
    assert texts[0].endswith("10 % of your runs are longer, about 1,000 of the month's")
    assert texts[1].endswith("this plan carries 100 MB; 10 % of them are larger, about 1,000 of the month's")
