"""What every command has in common: options of saying and colour, defaults of a file or the environment, hints for habits."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click
from click.exceptions import NoSuchOption

from echotally.cli import defaults, names, saying
from echotally.naming import nearest

#: What people type from habit, and what says it here; ``{}`` is the value typed with it. The first that the command has counts.
_HABITS = {
    "--json": ("--format json",),
    "--csv": ("--format csv",),
    "--md": ("--format markdown",),
    "--markdown": ("--format markdown",),
    "--html": ("--format html", "'echotally report MODEL -o report.html'"),
    "--sarif": ("--format sarif", "'echotally check MODEL --format sarif'"),
    "--pretty": ("--format table",),
    "--output": ("-o FILE",),
    "--outfile": ("-o FILE",),
    "--output-file": ("-o FILE",),
    "--save": ("-o FILE",),
    "--output-format": ("--format",),
    "--plans": ("--plan CARD.PLAN, once for each",),
    "--month": ("--set estate.month={}",),
    "--timezone": ("--set estate.timezone={}",),
    "--tz": ("--timezone {}", "--set estate.timezone={}"),
    "--zone": ("--timezone {}", "--set estate.timezone={}"),
    "--rates": ("--rate-card {}", "the key rate_cards under [estate] of the model"),
    "--memory": ("--set functions.NAME.memory={}",),
    "--timeout": ("--set functions.NAME.timeout={}",),
    "--concurrency": ("--set functions.NAME.instance_limit={}",),
    "--budget": ("--set targets.monthly_cost={}",),
    "--currency": ("the key exchange of the model",),
    "--scale": ("'echotally crossover MODEL --scale LOW..HIGH'",),
    "--jobs": ("--workers {}",),
    "--threads": ("--workers {}",),
    "--processes": ("--workers {}",),
    "--parallel": ("--workers {}",),
    "--random-seed": ("--seed {}",),
    "--runs": ("--replications {}",),
    "--repeat": ("--replications {}",),
    "--since": ("--from {}",),
    "--start": ("--from {}",),
    "--end": ("--until {}",),
    "--to": ("--until {}",),
    "--no-color": ("--color never",),
    "--no-colour": ("--color never",),
    "--colour": ("--color {}",),
    "--silent": ("--quiet",),
    "--log-level": ("--verbose",),
    "--debug": ("ECHOTALLY_DEBUG=1 in the environment",),
    "--dry-run": ("'echotally check MODEL'",),
    "--file": ("the file's name alone",),
    "--model": ("the model's name alone",),
    "--group-by": ("--by {}",),
    "--split": ("--by {}",),
    "--chart-file": ("--plot FILE",),
    "--figure": ("--plot FILE",),
    "--explain-bill": ("--explain FUNCTION",),
}


class Command(click.Command):
    """A command with the options that all have, and its defaults from elsewhere."""

    def __init__(self, *arguments: Any, **values: Any) -> None:
        super().__init__(*arguments, **values)
        self.params += saying.options()

    def make_context(
        self, info_name: str | None, args: list[str], parent: click.Context | None = None, **extra: Any
    ) -> click.Context:
        """As the library does; what was set elsewhere stands behind what was typed."""
        said: list[str] = []
        if extra.get("default_map") is None and not extra.get("resilient_parsing"):
            inside = parent is not None and parent.parent is not None
            name = f"{parent.info_name} {info_name}" if parent and inside else info_name or ""
            extra["default_map"], said = defaults.found_for(self, name, args)
        typed = list(args)
        context = super().make_context(info_name, args, parent, **extra)
        context.meta[names.TYPED] = typed
        if said:
            with context.scope(cleanup=False):
                saying.note("Set beforehand: " + ", ".join(said))
        return context

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """As the library does; an option that there is not is told what says it here."""
        typed = list(args)
        try:
            return super().parse_args(ctx, args)
        except NoSuchOption as error:
            raise click.UsageError(self._meant(error.option_name, typed), ctx) from error

    def _meant(self, name: str, typed: list[str]) -> str:
        known = [option for param in self.params if isinstance(param, click.Option) for option in param.opts]
        said = f"{name}: there is no such option"
        for instead in _HABITS.get(name, ()):
            first = instead.split()[0]
            if not first.startswith("-") or first in known:
                if first == "--format" and not self._has_form(instead.split()[1:]):
                    continue
                return f"{said}; {instead.format(_value_of(name, typed))} says it"
        near = nearest(name, [option for option in known if option.startswith("--")])
        return f"{said}; did you mean {near}?" if near else f"{said}; '{_called()} --help' lists those there are"

    def _has_form(self, wanted: list[str]) -> bool:
        form = next((param for param in self.params if param.name == "form"), None)
        return form is not None and (not wanted or wanted[0] in getattr(form.type, "choices", ()))


class Group(click.Group):
    """A group of such commands."""

    command_class = Command


def _value_of(name: str, typed: list[str]) -> str:
    """The value that was typed with an option, ``VALUE`` if none was."""
    for n, word in enumerate(typed):
        if word.startswith(f"{name}="):
            return word.partition("=")[2]
        if word == name and n + 1 < len(typed) and not typed[n + 1].startswith("-"):
            return typed[n + 1]
    return "VALUE"


def _called() -> str:
    context = click.get_current_context(silent=True)
    return context.command_path if context else "echotally"


def command(**how: Any) -> Callable[[Callable[..., Any]], Command]:
    """Makes a function one of our commands."""
    return click.command(cls=Command, **how)


def group(**how: Any) -> Callable[[Callable[..., Any]], Group]:
    """Makes a function a group of our commands."""
    return click.group(cls=Group, **how)
