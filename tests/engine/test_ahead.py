"""What a sample plays beside itself on other cores, against the same sample on one."""

from __future__ import annotations

import threading

import pytest

from echotally.engine.build import Built
from echotally.engine.sampling.ahead import Ahead
from echotally.engine.sampling.estimate import Effort, Sampler
from echotally.errors import TooLarge
from echotally.projection.loaded import load, placement_on
from echotally.projection.playing import Playing
from echotally.projection.project import project_plan
from tests.engine.test_apart import plain
from tests.engine.test_sampling import MODEL

#: A limit of the account that schedules and the rest share, so that hours are played as they are.
SHARED = "concurrency_limit = 12"


@pytest.mark.parametrize("keys", ["", SHARED])
def test_a_sample_is_the_same_on_one_core_and_on_three(keys, write):
    path = write(MODEL, keys=keys)
    one, three = (sampled(path, cores) for cores in (1, 3))
    assert plain(one.measured) == plain(three.measured) and one.confidence == three.confidence
    assert one.confidence is not None and one.bill == three.bill


def sampled(path, cores: int):
    loaded = load(path)
    how = Playing(sampled_from=0, effort=150_000, alike=True, cores=cores)
    return project_plan(loaded, loaded.offers["test.plan"], 1, how=how)


@pytest.mark.parametrize("cores", [1, 3])
def test_a_sample_that_plays_too_much_is_refused_on_any_number_of_cores(cores, write):
    loaded = load(write(MODEL, keys=SHARED))
    how = Playing(sampled_from=0, effort=150_000, most=60_000, alike=True, cores=cores)
    with pytest.raises(TooLarge, match="even a sample would play more than 60,000"):
        project_plan(loaded, loaded.offers["test.plan"], 1, how=how)


def test_sketches_whose_pages_cannot_be_given_back_are_read_and_forgotten(write, monkeypatch):
    path = write(MODEL, keys=SHARED)
    expected = sampled(path, 1)
    monkeypatch.setattr(Built, "forgets_sketches", lambda built: False)
    assert plain(sampled(path, 1).measured) == plain(expected.measured)


def test_what_parts_have_played_foretells_what_the_others_will(write):
    loaded = load(write(MODEL))
    placement = placement_on(loaded.model, loaded.offers, loaded.offers["test.plan"])
    player = Sampler(loaded.model, loaded.month, placement, 1, None, Effort(most=1_000)).player
    # 200 in stretches and 230 in the first part's hours: with three more parts 200 + 4 x 230 = 1,120, a tenth too many.
    player.played, player.in_hours = 430, 230
    with pytest.raises(TooLarge):
        player.foresees(0)
    # Parts differ a little: 200 + 4 x 220 = 1,080 is waited for.
    player.played, player.in_hours = 420, 220
    player.foresees(0)
    # After the last part nothing is to come.
    player.played, player.in_hours = 1_000, 800
    player.foresees(3)


class Counting:
    """A player that counts what it has played, itself or beside itself."""

    def __init__(self) -> None:
        self.played = list[int]()

    def beside(self, tell) -> Counting:
        tell()
        return Counting()

    def tell(self) -> None:
        """Nobody hears of it."""

    def takes(self, other: Counting) -> None:
        self.played += other.played


def test_whatever_is_played_ahead_counts_once_and_in_the_order_in_which_it_is_asked_for():
    player, began = Counting(), threading.Event()

    def play(n: int):
        def it(who: Counting) -> int:
            began.set()
            if n == 2 and who is not player:
                raise TooLarge([])
            who.played.append(n)
            return n * n

        return it

    with Ahead(player, 2) as ahead:
        ahead.will_be_asked((n, play(n)) for n in range(6))
        assert began.wait(10)
        ahead.forget([4])
        # The third is refused beside, and not by the player; the fifth nobody asks for, and one nobody announced.
        assert [ahead.asked(n, play(n)) for n in (0, 1, 2, 3, 5, 9)] == [0, 1, 4, 9, 25, 81]
    assert player.played == [0, 1, 2, 3, 5, 9]
    with Ahead(player, 1) as alone:
        alone.will_be_asked([(7, play(7))])
        assert alone.asked(7, play(7)) == 49 and player.played[-1] == 7
