"""The demo tells a story: which plans hold, what fails and why, what each command finds. Kinds are held here, not digits."""

from __future__ import annotations

from pathlib import Path

import pytest

import echotally
from echotally.demo import write_example
from echotally.findings import Checked
from echotally.projection.answer import Projection
from echotally.projection.estate_map import estate_map
from echotally.projection.loaded import Loaded, load


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    write_example("river-watch", folder)
    return folder / "river.toml"


@pytest.fixture(scope="module")
def loaded(demo: Path) -> Loaded:
    return load(demo)


@pytest.fixture(scope="module")
def month(loaded: Loaded) -> Projection:
    return echotally.project(loaded)


@pytest.fixture(scope="module")
def checked(loaded: Loaded) -> Checked:
    return echotally.check_model(loaded)


def cost(month: Projection, plan: str) -> float:
    return float(next(p.bill.unrounded for p in month.played if p.offer.name == plan))


def missed(month: Projection, plan: str) -> set[tuple[str, str | None]]:
    return {(m.target, m.function) for p in month.played if p.offer.name == plan for m in p.misses}


def test_it_is_a_national_service_on_nine_plans(loaded: Loaded, month: Projection) -> None:
    assert 10 <= len(loaded.model.functions) <= 14
    assert {name.partition(".")[0] for name in loaded.offers} == {"heron", "osier", "tern"}
    sold = [name for name, offer in loaded.offers.items() if offer.plan.available is True]
    assert 7 <= len(sold) <= 9
    events = sum(plan.totals.events["in"] for plan in month.played) / len(month.played)
    assert 800_000 < events < 2_000_000
    assert all(2_000 < plan.bill.total < 6_000 for plan in month.played)


def test_the_cheapest_plans_fail_and_the_safe_one_costs_a_third_more(month: Projection) -> None:
    assert month.pick == "heron.shared" and not missed(month, "heron.shared")
    cheaper = [plan for plan in month.played if float(plan.bill.unrounded) < cost(month, "heron.shared")]
    assert len(cheaper) >= 2 and all(plan.misses for plan in cheaper)
    least = min(float(plan.bill.unrounded) for plan in cheaper)
    assert 1.25 < cost(month, "heron.shared") / least < 1.45


def test_on_the_cheap_plan_warnings_wait_behind_flood_models(loaded: Loaded, month: Projection) -> None:
    assert {("throttled", None), ("wait_p95", "send-text")} <= missed(month, "heron.per-run")
    plan = month.plan("heron.per-run")
    assert isinstance(plan, echotally.PlayedPlan)
    limit = month.plan("heron.per-run").offer.plan.concurrency_limit
    assert plan.measured.concurrency.peak == limit
    troubles = {node.label: {t.kind for t in node.troubles} for node in estate_map(month, plan).nodes.values()}
    assert "throttled" in troubles["look"] and "waiting" in troubles["send-text"]
    # With the models gone, texts are out in time: the neighbour it was.
    alone = [("schedules.hourly-models", "")]
    quiet = echotally.project(loaded, alone, plans=["heron.per-run"])
    assert ("wait_p95", "send-text") not in missed(quiet, "heron.per-run")


def test_findings_are_worth_hundreds_and_one_is_dangerous(checked: Checked) -> None:
    saved = {
        (f.rule.code, f.noticed.address): -float(f.noticed.outcome.cost)
        for f in checked.open()
        if f.noticed.outcome is not None
    }
    assert saved["C02", "environments.rehearsal"] > 500
    assert saved["M01", "functions.flood-model.memory"] > 100
    (danger,) = [f for f in checked.open("warning") if f.rule.code == "Q01"]
    assert danger.noticed.address == "queues.texts.visibility"
    assert danger.noticed.outcome is not None
    twice = danger.noticed.outcome.figures["handled_twice"]
    assert twice[0] > 50 and twice[1] == 0


def test_a_sweep_of_memory_has_a_minimum_within(loaded: Loaded) -> None:
    axis = ["functions.flood-model.memory=3584 MB,4 GB,6 GB,10 GB"]
    rows = echotally.sweep(loaded, axis, plans=["heron.per-run"], workers=1).rows
    costs = [row["cost_total"] for row in rows]
    assert min(costs) not in (costs[0], costs[-1])
    assert rows[0]["lost_events"] > rows[1]["lost_events"]


def test_a_knee_that_the_limit_makes(loaded: Loaded) -> None:
    rows = echotally.load_trial(loaded, "map", [5, 20, 40, 80], [20], plan="heron.shared").rows
    knee = next(row for row in rows if row.knee)
    assert knee.clients == 20 == knee.limit
    assert rows[-1].calls_per_s < 1.1 * knee.calls_per_s


def test_kinds_of_scaling_drain_minutes_apart(loaded: Loaded) -> None:
    plans = ["heron.shared", "osier.elastic"]
    rows = {row.plan: row for row in echotally.drain(loaded, "texts", 30_000, [40], plans=plans).rows}
    soon, late = (rows[plan].empty_s for plan in plans)
    assert soon is not None and late is not None and late - soon > 60


def test_plans_cross_within_three_times_todays_demand(loaded: Loaded) -> None:
    found = echotally.crossover(loaded, 0.8, 2.0, ["heron.per-run", "osier.fixed"], workers=1)
    (crossing,) = found.crossings
    assert 0.8 < crossing.scale < 2 and crossing.above == "osier.fixed"


def test_the_bill_is_above_the_projection_for_three_reasons(demo: Path, month: Projection) -> None:
    found = echotally.reconcile(month, demo.parent / "logs/bill.csv", "heron.shared")
    above = float((found.billed - found.projected) / found.projected)
    assert 0.07 < above < 0.11
    for part in ("volume", "run_time", "price"):
        assert float(found.parts[part]) > 40, part


def test_a_fit_moves_the_decision(demo: Path, loaded: Loaded, month: Projection) -> None:
    fitted = echotally.fit([demo.parent / "logs/look.csv"], loaded=loaded, plan="heron.shared")
    sets = [
        (
            "functions.look.run",
            f'{{ median = "{fitted.run.median.value:.0f} ms", p95 = "{fitted.run.p95.value:.0f} ms" }}',
        )
    ]
    sets += [("functions.look.per_mb", "0 s")]
    after = echotally.project(loaded, sets)
    assert month.pick == "heron.shared" and after.pick is None
    assert ("monthly_cost", None) in missed(after, "heron.shared")


@pytest.mark.nightly
def test_a_mix_costs_a_fifth_less_and_keeps_every_target(loaded: Loaded, month: Projection) -> None:
    found = echotally.choose(loaded, sizes=False)
    assert not found.chosen.misses and len(set(found.assignment.values())) > 1
    assert float(found.chosen.bill.unrounded) < 0.8 * cost(month, "heron.shared")


@pytest.mark.nightly
def test_another_plan_becomes_the_cheaper_one_in_some_month(loaded: Loaded) -> None:
    found = echotally.forecast(loaded, 12, 100, plans=["heron.per-run", "osier.fixed", "heron.shared"])
    assert found.switches
    assert any(0 < month.over_budget_chance < 1 for plan in found.plans for month in plan.months)
