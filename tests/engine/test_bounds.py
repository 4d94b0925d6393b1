"""Months of studies are bounded: one that takes more attempts than it may is refused, however it is played."""

from __future__ import annotations

import pytest

from echotally.errors import TooLarge
from echotally.projection.loaded import load
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan

OVERLOADED = """
[functions.f]
memory = "512 MB"
run = "30 s"
instance_limit = 1
[functions.g]
memory = "512 MB"
run = "1 s"
[endpoints.e]
[endpoints.calm]
[demand.d]
into = "endpoints.e"
monthly = 40_000
client_tries = 6
client_pause = "1 s"
[demand.c]
into = "endpoints.calm"
monthly = 1_000
[[triggers]]
from = "endpoints.e"
to = "f"
[[triggers]]
from = "endpoints.calm"
to = "g"
"""


@pytest.mark.parametrize("cores", [1, 2])
@pytest.mark.parametrize("sampled_from", [None, 0], ids=["played", "sampled"])
def test_a_month_is_refused_where_it_takes_more_attempts_than_it_may(write, monkeypatch, sampled_from, cores):
    loaded = load(write(OVERLOADED))
    offer = loaded.offers["test.plan"]

    def played(attempts):
        return project_plan(loaded, offer, 1, how=Playing(sampled_from=sampled_from, attempts=attempts, cores=cores))

    # By itself a part may be within the bounds of the whole.
    monkeypatch.setattr("echotally.engine.apart.month._BUSY", 1)
    tried = played(None).totals.attempts["total"]
    # 31 days of runs of half a minute are 89,280 at the most; most of what comes finds the one instance busy and is tried again.
    assert tried > 2 * 41_000
    few = tried - 1 if sampled_from is None else 1_000
    with pytest.raises(
        TooLarge, match=f"more than {few:,} attempts in a month: what finds no room is tried over and over"
    ):
        played(few)
    assert played(tried if sampled_from is None else 10 * tried).totals.attempts["total"] == tried
