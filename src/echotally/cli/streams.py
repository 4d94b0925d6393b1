"""Standard output as it may be: closed, full, or in an encoding that lacks most signs."""

from __future__ import annotations

import codecs
import contextlib
import errno
import io
import json
import os
import re
import sys
from typing import Any

from echotally.errors import safe_lines

#: What stands for signs of ours where the encoding has none of them.
_PLAIN = str.maketrans(
    {
        "–": "-",
        "—": "-",
        "‒": "-",
        "−": "-",
        "─": "-",
        "━": "-",
        "│": "|",
        "┃": "|",
        "╵": "|",
        "╷": "|",
        "┼": "+",
        "═": "=",
        "…": "...",
        "×": "x",
        "≤": "<=",
        "≥": ">=",
        "≈": "~",
        "→": "->",
        "←": "<-",
        "↑": "^",
        "↓": "v",
        "▲": "^",
        "▼": "v",
        "•": "*",
        "·": ".",
        "█": "#",
        "▇": "#",
        "▆": "#",
        "▅": "#",
        "▄": "=",
        "▃": "=",
        "▂": "-",
        "▁": "_",
        "▏": "|",
        "░": ".",
        "▒": ":",
        "▓": "#",
        "µ": "u",
        "μ": "u",
        "σ": "s",
        "²": "2",
        "’": "'",
        "‘": "'",
        "“": '"',
        "”": '"',
        "\u00a0": " ",
    }
)
_ERRORS = "echotally-plain"
_COLOUR = re.compile(r"(\x1b\[[0-9;]*m)")


class OutputFailed(OSError):
    """Standard output took no more."""


class _Output(io.TextIOWrapper):
    """Standard output that tells its own failures from those of files."""

    def write(self, text: str) -> int:
        with _failing():
            super().write(_harmless(text, self.isatty() or _colours_forced()))
            return len(text)

    def flush(self) -> None:
        with _failing():
            super().flush()


class _Messages(io.TextIOWrapper):
    """Standard error: what comes from outside must not act on a terminal or forge lines of a log."""

    def write(self, text: str) -> int:
        # On a terminal a line of progress moves the cursor; every message with text from outside is made safe before.
        super().write(text if self.isatty() else _harmless(text, False))
        return len(text)


def _colours_forced() -> bool:
    """Whether colours were asked for where there is no terminal, as the table library reads it."""
    return bool(os.environ.get("FORCE_COLOR")) or os.environ.get("TTY_COMPATIBLE") == "1"


def _harmless(text: str, colours: bool) -> str:
    """A text without signs that act; on a terminal our own colours stay."""
    if not colours or "\x1b" not in text:
        return safe_lines(text)
    return "".join(part if n % 2 else safe_lines(part) for n, part in enumerate(_COLOUR.split(text)))


class _Closed(io.StringIO):
    """Standard output where there is none: what is written to it fails when it is delivered."""

    def write(self, text: str) -> int:
        raise OutputFailed(errno.EBADF, "it is closed")


@contextlib.contextmanager
def _failing() -> Any:
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as error:
        raise OutputFailed(error.errno, error.strerror or str(error)) from error


def _plain(error: UnicodeError) -> tuple[str, int]:
    """A sign the encoding lacks: one like it, else its number, which JSON readers take for the sign itself."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    missing = error.object[error.start : error.end]
    return "".join(_spelt(sign) for sign in missing), error.end


def _spelt(sign: str) -> str:
    plain = sign.translate(_PLAIN)
    return plain if plain.isascii() else json.dumps(sign)[1:-1]


def set_up() -> None:
    """Prepare the standard streams, once, before anything is written."""
    codecs.register_error(_ERRORS, _plain)
    for number in (1, 2):
        # A file opened next must not become standard output by taking its number.
        try:
            os.fstat(number)
        except OSError:
            with contextlib.suppress(OSError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), number)
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115
    elif type(sys.stderr) is io.TextIOWrapper:
        encoding = sys.stderr.encoding
        sys.stderr = _Messages(sys.stderr.detach(), encoding=encoding, errors=_ERRORS, line_buffering=True)
    if sys.stdout is None:
        sys.stdout = _Closed()
    elif type(sys.stdout) is io.TextIOWrapper:
        old = sys.stdout
        sys.stdout = _Output(
            old.detach(), encoding=old.encoding, errors=_ERRORS, line_buffering=old.line_buffering, write_through=False
        )
