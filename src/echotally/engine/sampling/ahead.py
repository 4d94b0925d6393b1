"""What a sample will ask for is played beside it, on other cores, before it does.

Stretches with no lane full, and hours that nothing is handed on to, hang on nothing that was played before them: whoever plays them
finds the same bytes. What they count is added where they are asked for, in the order in which one core would have played them, so
that a sample is refused where it would have been.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Any, TypeVar, cast

from echotally.engine.sampling.player import Dearer, Player
from echotally.errors import Stopped, TooLarge

Result = TypeVar("Result")
#: Plays something with a player.
Play = Callable[[Player], Any]
#: So many are held for each core that plays them, those that wait to be asked for with them.
_HELD = 2


class Ahead:
    """Plays, for one player, what is announced, on all cores but its own; a context manager, so that none of it outlives it."""

    def __init__(self, player: Player, cores: int) -> None:
        self._player, self._cores = player, cores - 1
        self._pool = ThreadPoolExecutor(cores - 1) if cores > 1 else None
        self._announced: dict[Hashable, Play] = {}
        self._begun: dict[Hashable, Future[tuple[Any, Player]]] = {}
        self._over = False

    def __enter__(self) -> Ahead:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._over = True
        if self._pool:
            self._pool.shutdown(cancel_futures=True)

    def will_be_asked(self, plays: Iterable[tuple[Hashable, Play]]) -> None:
        """Announce plays by their keys, in the order in which they will be asked for."""
        if self._pool:
            self._announced |= dict(plays)
            self._begin_some()

    def forget(self, keys: Iterable[Hashable]) -> None:
        """Nobody will ask for these after all."""
        for key in keys:
            self._announced.pop(key, None)
            if found := self._begun.pop(key, None):
                found.cancel()
        self._begin_some()

    def asked(self, key: Hashable, play: Callable[[Player], Result]) -> Result:
        """What ``play`` finds with the player itself."""
        self._announced.pop(key, None)
        future = self._begun.pop(key, None)
        # What nobody has come to yet need not be waited for.
        if future is None or future.cancel():
            self._begin_some()
            return play(self._player)
        while self._announced and not future.done():
            self._plays_next()
        try:
            found, its = future.result()
        except (TooLarge, Dearer):
            its = None
        finally:
            self._begin_some()
        if its is None:
            # With what it failed on goes all that was played; the player comes to that itself, or it does not: what it has played
            # before counts as well.
            del future
            return play(self._player)
        self._player.takes(its)
        return cast(Result, found)

    def _begin_some(self) -> None:
        while self._pool and self._announced and len(self._begun) < _HELD * self._cores:
            key, play = self._next()
            self._begun[key] = self._pool.submit(self._played, play, self._heard)

    def _plays_next(self) -> None:
        """Play what is announced next on this core, which has nothing else to do."""
        key, play = self._next()
        self._begun[key] = future = Future[tuple[Any, Player]]()
        try:
            future.set_result(self._played(play, self._player.tell))
        except (TooLarge, Dearer) as error:
            future.set_exception(error)

    def _next(self) -> tuple[Hashable, Play]:
        key = next(iter(self._announced))
        return key, self._announced.pop(key)

    def _played(self, play: Play, tell: Callable[[], None]) -> tuple[Any, Player]:
        its = self._player.beside(tell)
        return play(its), its

    def _heard(self) -> None:
        if self._over:
            raise Stopped("nobody asks any more")
