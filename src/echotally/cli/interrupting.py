"""Ctrl-C ends the program within two seconds, whatever it is doing: a compiler or a database may hold it up for longer."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator

#: How long the program may take to end in its own way, s.
_PATIENCE_S = 1.5
INTERRUPTED = 130
_NOTHING = "Interrupted; nothing half done was kept."
#: What to say instead while work is kept as it is done.
_KEPT: list[Callable[[], str]] = []


def said() -> str:
    """What an interruption left behind; asked once, by whoever reports it."""
    while _KEPT:
        with contextlib.suppress(Exception):
            return f"Interrupted; {_KEPT.pop()()}"
    return _NOTHING


@contextlib.contextmanager
def keeping(kept: Callable[[], str]) -> Iterator[None]:
    """While this lasts an interruption says what ``kept`` tells."""
    _KEPT.append(kept)
    try:
        yield
    except KeyboardInterrupt:
        # Left in place: whoever reports the interruption asks afterwards.
        raise
    except BaseException:
        _KEPT.remove(kept)
        raise
    _KEPT.remove(kept)


def watch() -> None:
    """Leave with 130 if an interruption has not ended the program by itself; what it was writing is not there, or whole.

    Python runs its handlers only between its own steps, but the signal's number is written to this pipe at once.
    """
    with contextlib.suppress(ValueError, OSError):
        heard, said = os.pipe()
        os.set_blocking(said, False)
        signal.set_wakeup_fd(said, warn_on_full_buffer=False)
        threading.Thread(target=_listen, args=(heard,), daemon=True).start()


def _listen(heard: int) -> None:
    while signal.SIGINT not in os.read(heard, 64):
        continue
    time.sleep(_PATIENCE_S)
    with contextlib.suppress(Exception):
        sys.stderr.write(f"{said()}\n")
        sys.stderr.flush()
    os._exit(INTERRUPTED)


def end_workers() -> None:
    """End processes that still play points, so that nothing of theirs is left or complained about."""
    if "joblib" not in sys.modules:
        return
    with contextlib.suppress(Exception):
        from joblib.externals.loky.reusable_executor import _executor

        if _executor is not None:
            _executor.shutdown(wait=True, kill_workers=True)
            _executor._temp_folder_manager._clean_temporary_resources(force=True)
