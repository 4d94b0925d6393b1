"""Expected events, told before a month is played: every way that an event can take counts, and each place is followed once."""

from __future__ import annotations

from collections import defaultdict
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from echotally.engine.sampling.wiring import Wiring
from echotally.model.estate import Emit, Function, Model, Topic, Trigger
from echotally.model.sources import SourceRef
from echotally.projection.loaded import load

LAYERS = 40


def wired(text: str, write) -> Wiring:
    return Wiring(load(write(text)).model)


def function(name: str, source: str, emits: str = "") -> str:
    put_out = f'emits = [{{ into = "{emits}", each = 0.5, payload = "1 kB" }}]' if emits else ""
    return f"""
[functions.{name}]
memory = "512 MB"
run = "80 ms"
{put_out}
[[triggers]]
from = "{source}"
to = "{name}"
"""


def test_a_chain_may_be_longer_than_python_calls_go_deep(write):
    names = [f"queues.q{n}" for n in range(1_200)]
    chain = [
        f"[{names[0]}]\n",
        *(f"[{into}]\n{function(f'f{n}', a, into)}" for n, (a, into) in enumerate(pairwise(names))),
    ]
    wiring = wired("".join([*chain, function("last", names[-1])]), write)
    found = wiring.flows({SourceRef(names[0]): 8.0})
    assert [found.at_sources[SourceRef(name)] for name in names[:4]] == [8.0, 4.0, 2.0, 1.0]
    assert len(wiring.reached(SourceRef(names[0]))) == 1_200


def test_ways_that_part_and_meet_again_are_not_followed_one_by_one(write):
    # Of 2 ** 40 ways there is no end; two halves of each layer's events come to the next.
    text = "".join(
        f"[topics.t{n}]\n" + "".join(function(f"{side}{n}", f"topics.t{n}", f"topics.t{n + 1}") for side in "ab")
        for n in range(LAYERS)
    )
    found = wired(f"{text}[topics.t{LAYERS}]\n{function('last', f'topics.t{LAYERS}')}", write).flows(
        {SourceRef("topics.t0"): 3.0}
    )
    assert set(found.at_sources.values()) == set(found.at_functions.values()) == {3.0}
    assert len(found.at_sources) == LAYERS + 1 and len(found.at_functions) == 2 * LAYERS + 1


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 6), st.integers(1, 6), st.sampled_from([0.0, 0.25, 1.0, 3.0])), max_size=14),
    st.integers(1, 1_000),
)
def test_expected_events_are_those_of_all_ways_together(lines, events):
    # Functions that read one topic and put out into later ones; the reference goes every way by itself.
    onward = [(n, min(6, n + step), each) for n, step, each in lines if n < 6]
    model = Model.model_construct(
        functions={
            f"f{i}": Function.model_construct(
                emits=[Emit.model_construct(into=SourceRef(f"topics.t{into}"), each=each)], asks=[]
            )
            for i, (_, into, each) in enumerate(onward)
        },
        topics={f"t{n}": Topic.model_construct(feeds=[]) for n in range(7)},
        triggers=[
            Trigger.model_construct(
                **{"from_": SourceRef(f"topics.t{n}"), "to": f"f{i}", "share": 1.0, "dead_letter": None}
            )
            for i, (n, _, _) in enumerate(onward)
        ],
    )
    came: dict[str, float] = defaultdict(float)

    def goes(at: int, many: float) -> None:
        came[f"topics.t{at}"] += many
        for begins, into, each in onward:
            if begins == at and many * each > 0:
                goes(into, many * each)

    goes(0, float(events))
    found = Wiring(model).flows({SourceRef("topics.t0"): float(events)})
    assert {str(source): n for source, n in found.at_sources.items()} == pytest.approx(
        {s: n for s, n in came.items() if n}
    )
