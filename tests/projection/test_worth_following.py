"""Which event of a month is named as worth following: what is lost before what is late, and nothing where nothing is amiss."""

from __future__ import annotations

import json

import pytest

from echotally.output.projection.projection_table import projection_text
from echotally.projection.explain import explain
from echotally.projection.project import project
from echotally.projection.worth_following import worth_following
from tests.conftest import run_program

BASE = """
[functions.f]
memory = "256 MB"
run = "{run}"
{more}
[{source}]
[demand.d]
into = "{source}"
lumps = [{{ at = "2027-03-01T12:00", count = {count} }}]
[[triggers]]
from = "{source}"
to = "f"
{trigger}
"""


def model(source="queues.q", count=1, run="1 s", more="", trigger=""):
    return BASE.format(source=source, count=count, run=run, more=more, trigger=trigger)


@pytest.mark.parametrize(
    ("text", "what"),
    [
        (model(), None),
        (model(count=50, more="instance_limit = 1"), "slowest"),
        (model("endpoints.e", 50, more="instance_limit = 1"), "throttled"),
        (model("folders.p", 1, "9 s", 'timeout = "2 s"', "tries = 1"), "lost"),
        (model("folders.p", 1, "9 s", 'timeout = "2 s"', 'tries = 1\ndead_letter = "queues.x"\n[queues.x]'), "dead-letter"),
    ],
)  # fmt: skip
def test_the_worst_of_a_month_is_named(text, what, play):
    plan = play(text)
    line = worth_following(plan)
    assert line == (None if what is None else f"echotally follow MODEL --plan test.plan --{what} --function f")
    assert worth_following(plan, "f") == line


def test_a_month_that_is_sampled_names_none(write):
    path = write(model(count=1_500, more="instance_limit = 1"))
    (plan,) = project(path, sampled_from=300).played
    assert plan.method == "sampled" and worth_following(plan) is None


def test_projections_walks_and_findings_name_it(write, tmp_path):
    path = write(model(count=50, more="instance_limit = 1"))
    found = project(path)
    line = "echotally follow MODEL --plan test.plan --slowest --function f"
    assert f"See the worst of it: {line}" in projection_text(found, 160, False)
    steps = explain(found.model, found.played[0], "f")
    assert [step.formula for step in steps if step.label == "one event"] == [line]
    done = run_program("check", "model.toml", "--format", "json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    rows = json.loads(done.stdout)["findings"]
    own = [row for row in rows if row["address"].startswith("functions.f.")]
    assert own and all(row["follow"] == line for row in own)
    assert all(row["follow"] is None for row in rows if not row["address"].startswith("functions."))
