"""Options that need not be typed again: from ``echotally.toml`` beside the model (else here), or from the environment.

What is typed goes first, then the environment (``ECHOTALLY_PROJECT_WIDTH``, ``ECHOTALLY_WIDTH``), then the table of the command
(``[project]``), then what stands above all tables and holds for every command that has such an option.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

from echotally.errors import BadInput, Problem
from echotally.files import text_of, unreadable
from echotally.naming import no_such

NAME = "echotally.toml"
_LARGEST = 1_000_000


def found_for(command: click.Command, name: str, args: list[str]) -> tuple[dict[str, Any], list[str]]:
    """What was set for a command, by the names of its parameters, and in words; raises ``BadInput`` for what does not fit it."""
    options = {_long(param): param for param in command.params if isinstance(param, click.Option)}
    found: dict[str, Any] = {}
    said: list[str] = []
    path = _file(args)
    if path is not None:
        for key, value in _of_file(path, name, options).items():
            found[str(options[key].name)] = _given(options[key], value, str(path), key)
            said.append(f"{key} = {value} ({path})")
    for key, param in options.items():
        for variable in (f"ECHOTALLY_{name}_{key}", f"ECHOTALLY_{key}"):
            shown = variable.upper().replace("-", "_").replace(" ", "_")
            text = os.environ.get(shown)
            if text:
                found[str(param.name)] = _given(param, [text] if param.multiple else text, shown, "")
                said.append(f"{key} = {text} ({shown})")
                break
    return found, said


def _long(param: click.Option) -> str:
    return next((option for option in param.opts if option.startswith("--")), param.opts[0]).lstrip("-")


def _file(args: list[str]) -> Path | None:
    """The file beside the first model named, else in the folder one is in."""
    models = [Path(word) for word in args if word.endswith(".toml") and not word.startswith("-")]
    folders = [path.parent for path in models if path.is_file() and path.name != NAME] or [Path()]
    path = folders[0] / NAME
    return path if path.is_file() else None


def _of_file(path: Path, name: str, options: Mapping[str, click.Option]) -> dict[str, Any]:
    from echotally.cli.main import COMMANDS

    try:
        data = tomllib.loads(text_of(path, _LARGEST, errors="strict"))
    except OSError as error:
        raise unreadable(path, error) from error
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise BadInput(Problem(f"is not TOML: {error}", file=str(path))) from error
    found: dict[str, Any] = {}
    for key, value in data.items():
        if isinstance(value, dict):
            if key not in COMMANDS:
                raise BadInput(no_such("command", f"[{key}]", key, COMMANDS, file=str(path)))
        elif key in options:
            found[key] = value
        elif key != "schema" and key not in (known := _of_any_command()):
            raise BadInput(no_such("option", key, key, known, file=str(path)))
    own = data.get(name.rsplit(maxsplit=1)[-1] if name not in data else name, {})
    for key, value in own.items():
        if key not in options:
            raise BadInput(no_such("option", f"{name}.{key}", key, options, file=str(path)))
        found[key] = value
    return found


def _of_any_command() -> list[str]:
    """Every option there is: what stands above the tables may be meant for another command."""
    from echotally.cli.main import COMMANDS, cli

    context = click.Context(cli)
    commands = [command for name in COMMANDS if (command := cli.get_command(context, name))]
    commands += [inner for each in commands if isinstance(each, click.Group) for inner in each.commands.values()]
    return sorted({_long(param) for each in commands for param in each.params if isinstance(param, click.Option)})


def _given(param: click.Option, value: Any, source: str, address: str) -> Any:
    """A value as the option takes it, tried now, so that a mistake names its place."""
    plain = [_text(each) for each in value] if isinstance(value, list) else value
    if param.multiple or param.nargs != 1:
        plain = plain if isinstance(plain, list) else [plain]
    elif isinstance(plain, list):
        plain = ",".join(plain)
    elif not param.is_flag:
        plain = _text(plain)
    elif not isinstance(plain, bool):
        plain = str(plain).lower() in ("1", "true", "yes", "on")
    try:
        param.type_cast_value(click.Context(click.Command("try")), plain)
    except click.BadParameter as error:
        raise BadInput(Problem(error.message.partition(" (found ")[0], address, source, value=str(value))) from error
    return plain


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
