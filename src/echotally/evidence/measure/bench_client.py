"""Speaks with the bench (``bench``): one request a line, one answer a line; the bench ends with whoever started it."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from echotally.errors import BadInput, OurFault, Problem

#: Nothing the bench does needs more of its environment than the measured program does.
_BENCH = Path(__file__).with_name("bench.py")


class Bench:
    """A bench that starts ``argv`` as often as it is asked to; leaving the ``with`` ends whatever runs."""

    def __init__(self, argv: list[str], limit_s: float) -> None:
        self.argv, self.limit_s = argv, limit_s
        if os.name != "posix":
            raise BadInput(Problem("measuring needs Linux or macOS", "measure", value=sys.platform))

    def __enter__(self) -> Self:
        # In a group of its own, so that Ctrl-C reaches it through us alone.
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-S", str(_BENCH)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, process_group=0
        )
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        process = self._process
        with contextlib.suppress(BrokenPipeError):
            if process.stdin:
                process.stdin.close()
        try:
            process.wait(timeout=5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        if process.stdout:
            process.stdout.close()

    def run(self, gets: str) -> dict[str, Any]:
        """A fresh process with this standard input: how it went (``bench.Bench.run``)."""
        return self._ask(do="run", argv=self.argv, gets=gets, limit=self.limit_s)

    def open(self, line: str) -> dict[str, Any]:
        """A process that reads events as lines, with its first answer."""
        return self._ask(do="open", argv=self.argv, line=line, limit=self.limit_s)

    def ask(self, lines: list[str], at_once: int = 1) -> dict[str, Any]:
        """More events for it."""
        return self._ask(do="ask", lines=lines, at_once=at_once, limit=self.limit_s)

    def close(self) -> dict[str, Any]:
        """The end of its events."""
        return self._ask(do="close")

    def _ask(self, **asked: Any) -> dict[str, Any]:
        pipe_in, pipe_out = self._process.stdin, self._process.stdout
        if pipe_in is None or pipe_out is None:
            raise OurFault("the bench has no pipes")
        try:
            pipe_in.write(json.dumps(asked).encode() + b"\n")
            pipe_in.flush()
            answer = pipe_out.readline()
        except BrokenPipeError:
            answer = b""
        if not answer:
            raise OurFault("the bench that starts programs has ended")
        found: dict[str, Any] = json.loads(answer)
        if "cannot" in found:
            text = f"cannot be started: {found['cannot']}"
            raise BadInput(Problem(text, value=self.argv[0], allowed="a program on this machine, by path or by name"))
        return found
