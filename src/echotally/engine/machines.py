"""Where months are played: on this machine's threads, or by the workers of a Dask cluster, with the same answer."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import CancelledError
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, NoReturn, TypeVar

from echotally.engine.compiling import kernels_name
from echotally.errors import BadInput, Problem, Stopped
from echotally.parts import missing

if TYPE_CHECKING:
    from distributed import Client

Result = TypeVar("Result")
Tell = Callable[[float], None]
#: How often it is asked, s, whether the caller was interrupted while others work for it.
_LOOK_S = 0.5
#: The longest wait for a scheduler, s.
_GREETING_S = 10


class Machines:
    """Where work is done, here on this machine: at once, by whoever asks. ``width``: how many may ask at a time (None: one a core)."""

    width: int | None = None

    def share(self, value: Any) -> Any:
        """A value that much of the work needs, to be handed to ``run`` in its place."""
        return value

    def keep(self, function: Callable[..., Any], *given: Any) -> Any:
        """What ``function`` returns, left where it was made: to be handed on as what is shared, or fetched."""
        return function(*given)

    def fetch(self, tell: Tell | None, kept: Any) -> Any:
        """What was kept, here; ``tell`` ends the waiting by raising."""
        return kept

    def run(self, tell: Tell | None, function: Callable[..., Result], *given: Any) -> Result:
        """What ``function`` (of a module, so that it has a name everywhere) returns; ``tell`` ends it by raising.

        The function has a keyword ``progress``, which is told the share that is done.
        """
        return function(*given, progress=tell)


HERE = Machines()


class Cluster(Machines):
    """The workers of a Dask scheduler. Whoever asks waits; a worker that dies has its work done by another."""

    def __init__(self, client: Client, address: str) -> None:
        self.client, self.address = client, address
        threads: dict[str, int] = client.nthreads()  # type: ignore[no-untyped-call]
        self.width = max(1, sum(threads.values()))

    def share(self, value: Any) -> Any:
        """The value, sent once. As a task, so that a worker that takes its copy along into death loses nothing."""
        return self.client.submit(_same, value, pure=False)

    def keep(self, function: Callable[..., Any], *given: Any) -> Any:
        """As on this machine, on some worker, and at once; a worker that dies with it has it made anew."""
        return self.client.submit(function, *given, pure=False)

    def fetch(self, tell: Tell | None, kept: Any) -> Any:
        """As on this machine. Raises what the work raised, or ``BadInput`` where workers or the scheduler are lost for good."""
        while True:
            try:
                return kept.result(timeout=_LOOK_S)
            except TimeoutError:
                # How far it is over there is not known; that it goes on is told, so that it can be stopped.
                self._still_wanted(tell, kept)
            except Exception as error:
                self.reraised(error)

    def run(self, tell: Tell | None, function: Callable[..., Result], *given: Any) -> Result:
        """As on this machine, on some worker. Raises as ``fetch``."""
        found: Result = self.fetch(tell, self.keep(function, *given))
        return found

    def _still_wanted(self, tell: Tell | None, future: Any) -> None:
        try:
            if tell:
                tell(0.0)
        except Stopped:
            future.cancel()
            raise

    def reraised(self, error: Exception) -> NoReturn:
        """Raise what a task raised, or what is wrong with the cluster, in words."""
        from distributed.comm.core import CommClosedError
        from distributed.scheduler import KilledWorker

        if isinstance(error, KilledWorker):
            text = f"{error.allowed_failures + 1} workers in turn died of the same work"
            allowed = "workers with more memory; what they wrote last says why"
            raise BadInput(Problem(text, "--cluster", value=self.address, allowed=allowed)) from error
        if isinstance(error, CancelledError | CommClosedError):
            text = "was lost while it played"
            raise BadInput(Problem(text, "--cluster", value=self.address, allowed="a scheduler that stays")) from error
        raise error


def _same(value: Any) -> Any:
    return value


@contextmanager
def machines(address: str | None) -> Iterator[Machines]:
    """The workers of the Dask scheduler at ``address``, or without one this machine. Raises ``BadInput`` where none answers there."""
    if address is None:
        yield HERE
        return
    with cluster(address) as found:
        yield found


@contextmanager
def cluster(address: str) -> Iterator[Cluster]:
    """The workers of the Dask scheduler at an address, which are waited for where there are none yet.

    Raises ``BadInput`` where no scheduler answers, or it has no worker.
    """
    try:
        from distributed import Client
    except ImportError as error:
        raise BadInput(missing("distributed")) from error
    try:
        client = Client(address, timeout=f"{_GREETING_S}s")  # type: ignore[no-untyped-call]
    except (OSError, ValueError) as error:
        raise BadInput(Problem("no Dask scheduler answers there", "--cluster", value=address)) from error
    with client:
        try:
            client.wait_for_workers(1, timeout=_GREETING_S)
        except TimeoutError as error:
            text, allowed = "has no worker", "a scheduler with workers, each with echotally of this version"
            raise BadInput(Problem(text, "--cluster", value=address, allowed=allowed)) from error
        _check_alike(client, address)
        yield Cluster(client, address)


def _version() -> str:
    from importlib.metadata import version

    return f"{version('echotally')} {kernels_name()}"


def _check_alike(client: Client, address: str) -> None:
    """Workers of another version would answer something else, or nothing. Raises ``BadInput`` for the first that differs."""
    try:
        found = client.run(_version)
    except Exception as error:
        text, allowed = f"has workers that cannot play: {error}", "workers with echotally installed"
        raise BadInput(Problem(text, "--cluster", value=address, allowed=allowed)) from error
    for worker, name in found.items():
        if name != _version():
            text, allowed = f"has a worker of another version ({worker})", "echotally of this version on every worker"
            raise BadInput(Problem(text, "--cluster", value=address, allowed=allowed))
