"""The program ``echotally``: a group whose commands are imported only when they are asked for."""

from __future__ import annotations

import contextlib
import importlib
import os
import sys
from typing import Any

import click

#: Command -> (module below ``echotally.cli``, one line for the overview). In the order people work.
COMMANDS = {
    "demo": ("demo", "Write the river-watch example into a folder and run it."),
    "start": ("start", "Write a commented model and rate card to begin with."),
    "check": ("check", "Find every mistake in a model and its rate cards."),
    "firings": ("firings", "Show when schedules fire, in words, in their zone and in UTC."),
    "demand": ("demand", "Show what comes in, before any function runs."),
    "project": ("project", "Play the month on every plan: throttling, concurrency, cost."),
    "follow": ("follow", "Follow one event: where its time went, who was in the way, what it cost."),
    "sweep": ("sweep", "Project every combination of some values, on every plan."),
    "crossover": ("crossover", "Cost of each plan against volume, and where the lines cross."),
    "drain": ("drain", "Work off a queue's backlog: when is it empty, with how many instances?"),
    "load": ("load", "Try a function under load: clients against instance limits."),
    "choose": ("choose", "The cheapest plan for each function, and sizes just large enough."),
    "forecast": ("forecast", "Look ahead: the months to come, their uncertainty, what moves the cost."),
    "survey": ("survey", "Make a model and a rate card from logs, spans, metrics and bills."),
    "measure": ("measure", "Try a real program here: run time, CPU, memory, as keys of the model."),
    "fit": ("fit", "Fit a function to run logs or load trials; make a trace of metrics."),
    "reconcile": ("reconcile", "Lay an actual bill beside the projection: where do they part, and why?"),
    "compare": ("compare", "Compare two saved projections: what changed, and what it does to the cost."),
    "report": ("report", "Write the whole answer as one self-contained page."),
    "rates": ("rates", "Show a rate card, or find what is odd about it."),
    "schema": ("schema", "Print the JSON Schema of a model or rate card, for editors."),
    "help": ("help", "Read a page of the manual here: tutorial, questions, keys, units, rules, a finding."),
}


class LazyGroup(click.Group):
    """Knows its commands by name, so that ``--help`` imports none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Every command, in the order people work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """The command of a name, imported now; None where there is none."""
        if name not in COMMANDS:
            return None
        module = importlib.import_module(f"echotally.cli.{COMMANDS[name][0]}_command")
        command: click.Command = getattr(module, name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The command asked for; an unknown one is told the nearest name."""
        if args and not args[0].startswith("-") and args[0] not in COMMANDS:
            from difflib import get_close_matches

            near = get_close_matches(args[0], COMMANDS, 1)
            raise click.UsageError(
                f"there is no command '{args[0]}'" + (f"; did you mean '{near[0]}'?" if near else ""), ctx
            )
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, each with one sentence."""
        with formatter.section("Commands, in the order people work"):
            formatter.write_dl([(name, text) for name, (_, text) in COMMANDS.items()])


def _version() -> str:
    from importlib.metadata import version

    return version("echotally")


def _show_version(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if not value:
        return
    click.echo(f"echotally {_version()}")
    if {"-v", "--verbose"} & set(sys.argv[1:]):
        from echotally.cli.surroundings import surroundings

        click.echo(surroundings(), nl=False)
    ctx.exit()


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_show_version,
    help="Show the version and leave; with --verbose also what it stands on, and where it keeps files.",
)
@click.option("-v", "--verbose", is_flag=True, expose_value=False, hidden=True)
def cli() -> None:
    """Plays a month of event-driven functions: throttling, concurrency and cost for each hosting plan.

    Begin with 'echotally demo', which writes an example and runs it.
    """


def _flush() -> None:
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()


def run(arguments: list[str] | None = None) -> Any:
    """Run the program and leave with its exit code."""
    import gc

    from echotally.cli import interrupting, room, streams
    from echotally.cli.failing import exit_code

    # Before any of these libraries is imported: no thread that spins for linear algebra there is none of, no search of all that is
    # installed for plugins of a library for checking.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    room.set_up()
    streams.set_up()
    interrupting.watch()
    # A short-lived program that makes few cycles: the default collector costs a tenth of its start.
    gc.set_threshold(100_000, 50, 50)
    code = exit_code(cli, arguments)
    # What is left goes with the process; looking through it once more would take as long as the imports.
    gc.freeze()
    if code == interrupting.INTERRUPTED:
        # Threads that still compile or play would be waited for.
        interrupting.end_workers()
        _flush()
        os._exit(code)
    sys.exit(code)


if __name__ == "__main__":
    run()
