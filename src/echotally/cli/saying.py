"""How much a command says beside its answer, and in colour or not: ``--quiet``, ``--verbose``, ``--color``."""

from __future__ import annotations

import logging
import os
import sys

import click

from echotally.errors import safe

_QUIET = "echotally.quiet"
#: Variables that the table library and ours read of colours.
_COLOURS = ("NO_COLOR", "FORCE_COLOR")


def options() -> list[click.Option]:
    """The options of saying, made anew for each command."""
    return [
        click.Option(
            ["-q", "--quiet"],
            is_flag=True,
            expose_value=False,
            callback=_quieten,
            help="Say nothing beside the answer: no progress, no notes on what was written.",
        ),
        click.Option(
            ["-v", "--verbose"],
            is_flag=True,
            expose_value=False,
            callback=_tell_all,
            help="Say on standard error what is read, played and kept.",
        ),
        click.Option(
            ["--color"],
            type=click.Choice(["auto", "always", "never"]),
            default="auto",
            show_default=True,
            expose_value=False,
            callback=_colour,
            help="Colours in tables: where standard output is a terminal, always, or never.",
        ),
        click.Option(
            ["--locale"],
            metavar="NAME",
            expose_value=False,
            callback=_locale,
            help="Numbers in tables as a locale writes them, such as de_DE, or system; data stays as it is.",
        ),
    ]


def quiet() -> bool:
    """Whether nothing is to be said beside the answer."""
    context = click.get_current_context(silent=True)
    return bool(context and context.find_root().meta.get(_QUIET))


def note(text: str) -> None:
    """One line beside the answer, on standard error."""
    if not quiet():
        click.echo(safe(text), err=True)


def _quieten(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if value:
        ctx.find_root().meta[_QUIET] = True


class _ToStandardError(logging.Handler):
    """Writes to what standard error is at the time, each line once."""

    def __init__(self, root: click.Context) -> None:
        super().__init__()
        # Plans are played in threads, which know of no context.
        self.root = root
        self.said: set[str] = set()

    def emit(self, record: logging.LogRecord) -> None:
        text = record.getMessage()
        # Studies play the same month again and again; nobody wants to read of it a hundred times.
        if text not in self.said and not self.root.meta.get(_QUIET):
            self.said.add(text)
            click.echo(text, err=True)


def _tell_all(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if not value:
        return
    logger, handler = logging.getLogger("echotally"), _ToStandardError(ctx.find_root())
    before = logger.level
    logger.addHandler(handler)
    logger.setLevel(logging.INFO)

    def restore() -> None:
        logger.removeHandler(handler)
        logger.setLevel(before)

    ctx.call_on_close(restore)


def _colour(ctx: click.Context, param: click.Parameter, value: str) -> None:
    if value == "auto":
        return
    # Put back at the end: a program that runs ours inside its own keeps its environment.
    before = {name: os.environ.pop(name, None) for name in _COLOURS}
    os.environ["FORCE_COLOR" if value == "always" else "NO_COLOR"] = "1"

    def restore() -> None:
        for name, text in before.items():
            _put(name, text)

    ctx.call_on_close(restore)


def _locale(ctx: click.Context, param: click.Parameter, name: str | None) -> None:
    if name is None:
        return
    from echotally.output.base.manner import Manner, of_locale, written

    decimal, thousands = of_locale(name)
    manner = written(Manner(decimal=decimal, thousands=thousands))
    ctx.with_resource(manner)


def _put(name: str, text: str | None) -> None:
    if text is None:
        os.environ.pop(name, None)
    else:
        os.environ[name] = text


def shows_progress() -> bool:
    """Whether a line of progress has its place: on terminals, unless nothing is to be said."""
    return sys.stderr.isatty() and not quiet()
