"""What groups of steady hours do: a stretch of each, played once, and which lanes come to hold work in it beside which."""

from __future__ import annotations

from functools import partial
from statistics import fmean, stdev

from echotally.engine.sampling.ahead import Ahead
from echotally.engine.sampling.coming import Coming
from echotally.engine.sampling.played import EMPTY, Mode, Stretch
from echotally.engine.sampling.player import Player
from echotally.engine.sampling.strata import PARTS, Cut
from echotally.engine.sampling.stretches import play_stretch, surely_keeping_up

#: A lane's growth is told from none where it is this many standard errors of its parts away.
_SURE = 3.0
#: A stretch so many times shorter is looked at first, and tells where it is this many standard errors away.
_LOOK, _CLEARLY = 8, 10.0
#: A lane that is full within this share of what comes is critical: a month tells, a stretch cannot.
_CRITICAL = 1e-4
#: So many lanes that may not keep up are first looked at together.
_MANY = 4


class Steady:
    """The stretches of a cut month's groups, by the lanes that are full in them, each played when it is first asked for.

    ``critical`` are functions to which just about as much comes as they can do.
    """

    def __init__(self, player: Player, cut: Cut, ahead: Ahead) -> None:
        self.cut, self.coming = cut, Coming(player, cut)
        self.stretches: dict[tuple[int, Mode], Stretch] = {}
        self.critical: set[str] = set()
        self._player, self._ahead = player, ahead
        self._looks: dict[tuple[int, Mode], Stretch] = {}
        self._modes: dict[tuple[int, Mode], Mode] = {}

    def cut_anew(self, cut: Cut) -> Steady:
        """Those of the month cut in another way: groups are the same where their hours are, only how often they count has changed."""
        found = Steady(self._player, cut, self._ahead)
        for (number, full), stretch in self.stretches.items():
            if full == EMPTY and number < len(cut.groups) and self.cut.groups[number].is_like(cut.groups[number]):
                found.stretches[number, full] = stretch
        for number in range(len(cut.groups)):
            found.stretch(number, EMPTY)
        return found

    def stretch(self, group: int, full: Mode) -> Stretch:
        """A group's stretch with some lanes full, played once."""
        if (group, full) not in self.stretches:
            play = partial(play_stretch, cut=self.cut, number=group, full=full)
            self.stretches[group, full] = self._ahead.asked((group, full), play)
        return self.stretches[group, full]

    def whole_stretch(self, group: int, full: Mode) -> Stretch:
        """The same, to its end where it was cut short."""
        if len(self.stretch(group, full).flows) < PARTS:
            self.stretches[group, full] = self._patiently(group, full)
        return self.stretches[group, full]

    def sends_away(self, group: int, full: Mode) -> bool:
        """Whether in a group, beside lanes that hold work, so much is sent away that its stretch is not worth playing to its end."""
        played = self.stretch(group, self.mode(group, full))
        return played.away and len(played.flows) < PARTS

    def flagged(self) -> set[int]:
        """Groups in which work sent away for lack of room does not clear."""
        return {group for (group, full), s in self.stretches.items() if s.away and full == EMPTY}

    def mode(self, group: int, full: Mode) -> Mode:
        """The lanes that hold work in a group: those that do already, and any other that does not keep up beside them."""
        key = (group, full)
        if key not in self._modes:
            now = full
            for _ in range(len(self._player.lanes)):
                played = self.stretch(group, now)
                more = self._fill_together(group, now, played.filling)
                suspicious = played.suspicious - now - played.filling
                suspicious -= self._keeping_up(group, now, suspicious)
                more |= {lane for lane in sorted(suspicious) if self._outgrows(group, now | more | {lane}, lane)}
                if not more:
                    if played.filling:
                        self.whole_stretch(group, now)
                    break
                now = now | more
            self._modes[key] = now
        return self._modes[key]

    def _fill_together(self, group: int, full: Mode, filling: Mode) -> Mode:
        """Of lanes that fill quickly those that outgrow what takes from them, each beside all of these: of very many events only so few
        have to be played, as none waits for long.
        """
        while filling and (more := self._look(group, full | filling).filling):
            filling |= more
        while filling:
            those = frozenset(lane for lane in sorted(filling) if self._outgrows(group, full | filling, lane))
            if those == filling:
                break
            # Beside fewer that are full the others have more room.
            filling = those
        return filling

    def _keeping_up(self, group: int, full: Mode, suspicious: set[int]) -> set[int]:
        """Of many lanes in which something waits those that surely keep up: a few are each looked at closely."""
        flows = self.stretch(group, full).flows
        if len(suspicious) < _MANY or not flows:
            return set()
        come = {n: self.coming.rate(group, n, fmean(float(f.come[n]) for f in flows)) for n in sorted(suspicious)}
        return surely_keeping_up(self._player, self.cut, group, full, come)

    def _outgrows(self, group: int, full: Mode, lane: int) -> bool:
        """Whether more comes into a lane than goes out of it when it is always full, as far as the parts can tell."""
        if (group, full) not in self.stretches:
            # Most lanes fill or keep up by far, which a short look tells as well, unless it ended before its first part.
            if not self._look(group, full).flows:
                self._looks[group, full] = self._patiently(group, full, shorter=_LOOK)
            net, noise = self._net(group, self._looks[group, full], lane)
            if abs(net) > _CLEARLY * noise:
                return net > 0
            self.stretches[group, full] = self._patiently(group, full)
        # Cut short where a third lane fills: what this one does is wanted all the same.
        net, noise = self._net(group, self.whole_stretch(group, full), lane)
        if abs(net) <= _SURE * noise:
            self.critical |= {self._player.first.units[u].function for u in self._player.lanes[lane].units}
        return net > -_SURE * noise

    def _look(self, group: int, full: Mode) -> Stretch:
        """A shorter stretch of a group, to its end or until other lanes fill."""
        if (group, full) not in self._looks:
            self._looks[group, full] = play_stretch(self._player, self.cut, group, full, shorter=_LOOK)
        return self._looks[group, full]

    def _patiently(self, group: int, full: Mode, shorter: int = 1) -> Stretch:
        return play_stretch(self._player, self.cut, group, full, patient=True, shorter=shorter)

    def _net(self, group: int, played: Stretch, lane: int) -> tuple[float, float]:
        """How much a lane grows while it is full, events a ns, and the standard error of that."""
        come = [self.coming.rate(group, lane, f.come[lane]) for f in played.flows]
        net = [c - float(f.gone[lane]) for c, f in zip(come, played.flows, strict=True)]
        return fmean(net), max(stdev(net) / len(net) ** 0.5, _CRITICAL * fmean(come))
