"""Small estates written to a temporary folder, and the installed program driven on them."""

from __future__ import annotations

import io
import multiprocessing
import os
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from multiprocessing.context import ForkProcess
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from echotally.engine.reading import UnitMeasured
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.project import project

# How long an example takes on a shared machine says nothing of what it asserts.
settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")

HEAD = """
schema = "echotally-model/1"
[estate]
name = "test"
month = "{month}"
timezone = "{zone}"
rate_cards = ["card.toml"]
"""
CARD = """
schema = "echotally-rates/1"
[card]
name = "test"
currency = "EUR"
[plans.plan]
bills = "runs"
memory = {{ from = "128 MB", to = "8 GB", step = "64 MB" }}
vcpu_per_gb = 2
{keys}
[plans.plan.price]
{prices}
"""
PRICES = 'calls = { per = 1_000_000, unit = "0.20" }\ngb_seconds = { unit = "0.00002" }'


#: By night: what takes long, where something shorter looks at the same or the like by day (another line of the docs, another
#: form, another seed, another view of one study).
BY_NIGHT = (
    "test_a_drawn_estate_comes_back[11-otlp.json]",
    "test_from_logs_to_a_model_runs_as_it_is_written",
    "test_the_program_says_what_is_undecided_and_what_would_settle_it",
    "test_pages_of_any_size_hold_the_same[1]",
    "test_of_a_large_month_cadences_are_costed_only_where_that_is_asked_for[True]",
    "test_a_killed_command_leaves_old_files_or_whole_ones[2]",
    "test_a_killed_command_leaves_old_files_or_whole_ones[3]",
    "test_the_small_estates_of_the_questions_are_played_and_checked[3]",
    "test_a_model_raises_its_finding_and_the_mended_twin_does_not[Q07-27]",
    "test_every_suggestion_does_what_it_promised[A01]",
    "test_a_second_run_changes_nothing_more",
    "test_an_answer_is_what_it_was[sampled-river]",
    "test_work_without_end_is_refused_with_its_count[visibility]",
    "test_the_cheapest_commitment_is_that_of_brute_force",
    "test_tables_stay_inside_the_width[forecast-160]",
    "test_a_killed_command_leaves_old_files_or_whole_ones[1]",
    "test_plans_cross_within_three_times_todays_demand",
    "test_a_choice_shows_each_part_today_and_as_chosen[tag:team]",
    "test_erlang_c_gives_the_wait_where_calls_may_wait[10-12]",
    "test_the_small_estates_of_the_questions_are_played_and_checked[2]",
    "test_a_killed_process_leaves_the_old_file_or_the_new_one",
    "test_of_several_commitments_each_is_varied_while_the_others_stay_as_on_their_cards",
    "test_an_answer_is_what_it_was[finding-q04]",
    "test_the_savings_agree_with_project_of_the_suggested_change",
    "test_a_month_so_far_under_a_commitment_lands_on_the_projection",
    "test_type_checkers_see_it_all",
    "test_a_killed_sweep_goes_on_and_ends_with_the_same_file",
    "test_demo_and_start_write_what_the_next_command_reads",
    "test_the_notebook_is_what_its_cells_show_now",
    "test_names_never_become_paths[report",
    "test_the_small_estates_of_the_questions_are_played_and_checked[1]",
    "test_work_without_end_is_refused_with_its_count[closed loop]",
    "test_an_answer_is_what_it_was[starter]",
    "test_erlang_b_holds_at_several_loads[5-8]",
    "test_erlang_b_holds_at_several_loads[20-20]",
    "test_intervals_hold_what_the_exact_month_of_the_seed_has[endpoints-3]",
    "test_intervals_hold_what_the_exact_month_of_the_seed_has[folders-3]",
    "test_intervals_hold_what_the_exact_month_of_the_seed_has[lumps-2]",
    "test_charts_are_the_same_bytes_twice[waits-svg]",
    "test_charts_are_the_same_bytes_twice[levels-png]",
    "test_charts_are_the_same_bytes_twice[backlog-svg]",
    "test_charts_are_pictures_of_1280_by_800[forecast-tornado]",
    "test_charts_are_pictures_of_1280_by_800[choose-chart]",
    "test_charts_are_pictures_of_1280_by_800[drain-chart]",
    "test_charts_are_pictures_of_1280_by_800[load-chart]",
    "test_a_part_that_is_missing_is_named_before_anything_is_written[matplotlib-report",
    "test_a_part_that_is_missing_is_named_before_anything_is_written[duckdb",
    "test_a_month_is_the_same_to_the_byte[instances of several slots share their CPU]",
    "test_a_name_says_the_form_and_the_same_month_gives_the_same_bytes[a.otlp.jsonl.gz]",
    "test_a_name_says_the_form_and_the_same_month_gives_the_same_bytes[a.metrics.json.gz]",
    "test_what_is_worth_following_is_there[osier.elastic]",
    "test_dense_rules_fire_when_the_library_says[Australia/Lord_Howe-FREQ=SECONDLY",
    "test_poison_is_told_from_chance_by_what_happens_when_it_is_tried_again",
    "test_a_crossover_splits_the_cost_of_every_volume",
    "test_the_parts_of_a_forecast_add_up_month_by_month",
    "test_last_bits_of_the_layout_change_no_byte",
    "test_work_left_over_within_a_day_is_carried_into_the_night",
    "test_a_model_raises_its_finding_and_the_mended_twin_does_not[Q04-22]",
    "test_pages_of_any_size_hold_the_same[64]",
    "test_the_steps_of_a_month_add_up_to_it[3600000000000]",
    "test_a_fit_moves_the_decision",
    "test_a_sweep_of_memory_has_a_minimum_within",
    "test_every_setting_the_starter_offers_in_a_comment_can_be_taken_up",
    "test_the_same_files_give_the_same_page",
    "test_the_layout_reads_no_memory_that_it_never_wrote[165]",
    "test_a_drawn_estate_comes_back[31-csv]",
    "test_a_killed_command_leaves_old_files_or_whole_ones[0]",
    "test_a_model_raises_its_finding_and_the_mended_twin_does_not[C08",
    "test_a_model_raises_its_finding_and_the_mended_twin_does_not[A01-46]",
)


#: Tests of what is said of a month; those of what it comes to, or of its playing, play it themselves.
OF_WORDS = (
    "tests/cli/",
    "tests/docs/",
    "tests/findings/",
    "tests/output/",
    "tests/studies/test_ahead",
    "tests/studies/test_choices",
    "tests/studies/test_crossings",
    "tests/studies/test_edges_and_prices",
    "tests/studies/test_money_beside",
    "tests/studies/test_split_everywhere",
    "tests/test_demo",
    "tests/test_python",
)


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark what goes by night."""
    for item in items:
        if any(part in item.nodeid for part in BY_NIGHT):
            item.add_marker("nightly")


@pytest.fixture(scope="module", autouse=True)
def _months_in_common(request: pytest.FixtureRequest) -> Iterator[None]:
    """A month that such tests have asked for is not played again in this process."""
    from tests.known_months import known_months

    of_words = request.path.relative_to(request.config.rootpath).as_posix().startswith(OF_WORDS)
    with known_months() if of_words else nullcontext():
        yield


@pytest.fixture
def write(tmp_path: Path) -> Callable[..., Path]:
    """Write a model (head supplied) and a card; returns the model's path."""

    def writer(
        model: str, keys: str = "", prices: str = PRICES, month: str = "2027-03", zone: str = "UTC", card: str = ""
    ) -> Path:
        path = tmp_path / "model.toml"
        path.write_text(HEAD.format(month=month, zone=zone) + model)
        (tmp_path / "card.toml").write_text(card or CARD.format(keys=keys, prices=prices))
        return path

    return writer


@pytest.fixture
def play(write: Callable[..., Path], tmp_path: Path) -> Callable[..., PlayedPlan]:
    """Play a small estate on its only plan."""

    def player(model: str, seed: int = 1, sets: tuple[tuple[str, str], ...] = (), **card: str) -> PlayedPlan:
        projection = project(write(model, **card), sets, seed=seed)
        assert projection.played, projection.refused
        return projection.played[0]

    player.folder = tmp_path  # type: ignore[attr-defined]
    return player


def rest_by_night(cases: Sequence[object], by_day: int) -> list[object]:
    """All cases of a table, of which only the first so many run by day."""
    return [*cases[:by_day], *(pytest.param(case, marks=pytest.mark.nightly) for case in cases[by_day:])]


def begun() -> list[object]:
    """What is left of processes forked here; those of a pool that an earlier test began wait for more, and end by themselves."""
    return [each for each in multiprocessing.active_children() if isinstance(each, ForkProcess)]


def unit(plan: PlayedPlan, name: str = "f") -> UnitMeasured:
    """The measurements of one function in its first environment."""
    return next(u for u in plan.measured.units if u.unit.function == name)


def run_program(*arguments: str, cwd: Path, **more: object) -> subprocess.CompletedProcess[str]:
    """The program as a stranger runs it: in this process, where nothing about a process is asked for.

    Streams, folder and exit code are those of a process of its own; what it says is made harmless as there. A process costs two
    seconds of start, and a thousand of them a quarter of an hour.
    """
    if more:
        return run_process(*arguments, cwd=cwd, **more)
    from echotally.cli import streams
    from echotally.cli.failing import exit_code
    from echotally.cli.main import cli

    before, kept = Path.cwd(), (sys.stdout, sys.stderr)
    raw = (io.BytesIO(), io.BytesIO())
    os.chdir(cwd)
    try:
        sys.stdout, sys.stderr = (io.TextIOWrapper(stream, encoding="utf-8", newline="") for stream in raw)
        streams.set_up()
        code = exit_code(cli, list(arguments))
        sys.stdout.flush()
        sys.stderr.flush()
        said = [stream.getvalue().decode() for stream in raw]
    finally:
        sys.stdout, sys.stderr = kept
        os.chdir(before)
    return subprocess.CompletedProcess(list(arguments), code, *said)


def run_process(*arguments: str, cwd: Path, **more: object) -> subprocess.CompletedProcess[str]:
    """The installed program in a process of its own."""
    return subprocess.run(
        [sys.executable, "-m", "echotally", *arguments], cwd=cwd, capture_output=True, text=True, timeout=240, **more
    )  # type: ignore[call-overload,no-any-return]


@pytest.fixture(scope="session")
def river(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's model in a folder of its own."""
    from tests.small_river import write_small_river

    folder = tmp_path_factory.mktemp("river")
    write_small_river(folder)
    return folder / "river.toml"


@pytest.fixture(scope="session")
def river_projection(river: Path) -> Projection:
    """The demo, projected once for all tests."""
    return project(river)
