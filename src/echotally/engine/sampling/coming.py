"""What comes into a lane: known from the demand where nothing else feeds it."""

from __future__ import annotations

import math

from echotally.engine.sampling.player import Player
from echotally.engine.sampling.strata import Cut


class Coming:
    """Of each lane what feeds it in the groups of a month that was cut."""

    def __init__(self, player: Player, cut: Cut) -> None:
        self._player, self._cut = player, cut
        self._feeding: dict[int, list[tuple[int, float]] | None] = {}
        self._demanded: dict[tuple[int, int], float] = {}
        self._bursts: dict[int, float] = {}

    def rate(self, group: int, lane: int, seen: float) -> float:
        """What comes into a lane, per ns: the rate of the demand where nothing but demand feeds it, else what was seen."""
        taps = self._taps(lane)
        if taps is None:
            return float(seen)
        # Asked for every few minutes of the month.
        if (group, lane) not in self._demanded:
            rates = self._cut.groups[group].rates
            into = math.fsum(share * rates[tap] for tap, share in taps)
            self._demanded[group, lane] = into * self._player.lanes[lane].share
        return self._demanded[group, lane]

    def burst(self, lane: int) -> float:
        """Variance of what comes in a time / its mean: 1 of Poisson arrivals, 2b - 1 of geometric bursts of mean b."""
        if lane not in self._bursts:
            taps = [self._cut.taps[tap] for tap, _ in self._taps(lane) or []]
            bursty = max([1.0, *(2 * tap.burst - 1 for tap in taps if tap.spread == "bursty")])
            self._bursts[lane] = 0.0 if taps and all(tap.spread == "even" for tap in taps) else bursty
        return self._bursts[lane]

    def _taps(self, lane: int) -> list[tuple[int, float]] | None:
        """Taps that feed a lane's source, with the share of their events; None where functions or letters feed it too."""
        if lane not in self._feeding:
            self._feeding[lane] = self._looked_up(lane)
        return self._feeding[lane]

    def _looked_up(self, lane: int) -> list[tuple[int, float]] | None:
        model = self._player.model
        environment, source = self._player.first.sources[self._player.lanes[lane].source]
        letters = {q.dead_letter for q in model.queues.values()} | {t.dead_letter for t in model.triggers}
        fed = {into for f in model.functions.values() for into in f.feeds} | letters
        topics = {
            f"topics.{name}": feed.share
            for name, topic in model.topics.items()
            for feed in topic.feeds
            if feed.into == source
        }
        if source in fed or fed & set(topics):
            return None
        found = []
        for n, tap in enumerate(self._cut.taps):
            if tap.environment == environment and (tap.source == source or tap.source in topics):
                found.append((n, 1.0 if tap.source == source else topics[tap.source]))
        return found
