"""Turns what went wrong into a message on standard error and an exit code. The only place that does.

0 done; 1 our own fault; 2 bad input or usage; 3 a target missed under --gate; 130 interrupted.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable
from typing import Any

import click

from echotally.cli.interrupting import INTERRUPTED, said
from echotally.cli.streams import OutputFailed
from echotally.errors import BadInput, EchoTallyError, safe
from echotally.parts import PARTS, missing

DONE, OUR_FAULT, BAD_INPUT, MISSED = 0, 1, 2, 3
#: Most problems listed; a file with more has one cause that repeats.
_MOST_LISTED = 50


def exit_code(command: click.Command, arguments: list[str] | None) -> int:
    """Run a command and translate its outcome."""
    try:
        # Not standalone: the library would end the process itself, with codes of its own.
        outcome = command.main(arguments, prog_name="echotally", standalone_mode=False)
        sys.stdout.flush()
        return outcome if isinstance(outcome, int) else DONE
    except click.exceptions.Exit as leaving:
        return leaving.exit_code
    except SystemExit as leaving:
        # Nobody else asks for the end of the process: the library does, all the same, where a reader leaves.
        return _reader_left(leaving)
    except (KeyboardInterrupt, Exception) as error:
        for kind, told in _TOLD:
            if isinstance(error, kind):
                return told(error)
        # For whoever mends it: the traceback that nobody else should see.
        if os.environ.get("ECHOTALLY_DEBUG"):
            raise
        return _unforeseen(error)


def _usage(error: Any) -> int:
    _show_usage(error)
    return BAD_INPUT


def _bad_input(error: Any) -> int:
    _list_problems(error)
    return BAD_INPUT


def _interrupted(_: Any) -> int:
    click.echo(said(), err=True)
    return INTERRUPTED


def _reader_left(_: Any) -> int:
    """The reader left (| head): what was asked for was delivered as far as it was wanted."""
    _drop_output()
    return DONE


def _output_failed(error: Any) -> int:
    _drop_output()
    click.echo(f"error: standard output cannot be written: {error.strerror}", err=True)
    return BAD_INPUT


def _our_fault(error: Any) -> int:
    click.echo(f"echotally: our own fault, please report it: {safe(str(error))}", err=True)
    return OUR_FAULT


def _library_missing(error: Any) -> int:
    """A library that only some work needs, and that is not installed."""
    library = str(error.name or "").partition(".")[0]
    if library not in PARTS:
        return _unforeseen(error)
    click.echo(f"error: {missing(library)}", err=True)
    return BAD_INPUT


def _no_memory(_: Any) -> int:
    click.echo("echotally: this model needs more memory than there is", err=True)
    return BAD_INPUT


def _unforeseen(error: BaseException) -> int:
    click.echo(f"echotally: our own fault, please report it: {type(error).__name__}: {safe(str(error))}", err=True)
    click.echo("(ECHOTALLY_DEBUG=1 shows where it happened)", err=True)
    return OUR_FAULT


#: What each kind of error is told as; the first that fits.
_TOLD: tuple[tuple[type[BaseException] | tuple[type[BaseException], ...], Callable[[Any], int]], ...] = (
    (click.ClickException, _usage),
    (BadInput, _bad_input),
    ((KeyboardInterrupt, click.Abort), _interrupted),
    (BrokenPipeError, _reader_left),
    (OutputFailed, _output_failed),
    (EchoTallyError, _our_fault),
    (MemoryError, _no_memory),
    (ModuleNotFoundError, _library_missing),
)


def _drop_output() -> None:
    """What is left in the buffer goes nowhere, so that leaving does not fail a second time."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _show_usage(error: click.ClickException) -> None:
    """One line, as every other mistake: where, what is wrong, and where it is told how."""
    click.echo(f"error: {safe(_usage_line(error).rstrip('.'))}", err=True)


def _usage_line(error: click.ClickException) -> str:
    context = getattr(error, "ctx", None)
    how = f"; '{context.command_path} --help' tells how" if context is not None else ""
    if isinstance(error, click.MissingParameter):
        return f"{_place(error)} is missing{how}"
    if isinstance(error, click.BadParameter):
        return f"{_place(error)}: {error.message}"
    return error.format_message() + ("" if "; " in error.format_message() else how)


def _place(error: click.BadParameter) -> str:
    """The option or argument that an error is about, as it is typed."""
    param, context = error.param, error.ctx
    if isinstance(param, click.Option):
        return max(param.opts, key=len)
    return param.make_metavar(context) if param is not None and context is not None else str(error.param_hint or "")


def _list_problems(error: BadInput) -> None:
    shown = error.problems[:_MOST_LISTED]
    for problem in shown:
        click.echo(f"error: {problem}", err=True)
    if len(error.problems) > len(shown):
        click.echo(f"... and {len(error.problems) - len(shown)} more", err=True)
    if len(error.problems) > 1:
        click.echo(f"{len(error.problems)} errors", err=True)
