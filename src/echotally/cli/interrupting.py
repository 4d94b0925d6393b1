"""Ctrl-C ends the program within two seconds, whatever it is doing: a compiler or a database may hold it up for longer."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import time

#: How long the program may take to end in its own way, s.
_PATIENCE_S = 1.5
INTERRUPTED = 130
SAID = "Interrupted; nothing half done was kept."


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
        sys.stderr.write(f"{SAID}\n")
        sys.stderr.flush()
    os._exit(INTERRUPTED)
