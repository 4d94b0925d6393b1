"""The reference of every command, made from the live help."""

from __future__ import annotations

import click

from echotally.cli.main import COMMANDS, cli

_WIDTH = 100
_HEAD = """<!-- Made by scripts/reference.py from the program's own help; edit that, not this page. -->

# Commands

Each works on files, puts its verdict first, writes results to standard output (or `-o FILE`, whole or not at all) and progress to
standard error. `--set ADDRESS=VALUE` overrides one value of the model on any command that reads one.

## Exit codes

| code | meaning |
|---|---|
| 0 | done |
| 1 | our own fault: please report it |
| 2 | bad input or usage; every problem is named with file, line, address, value and what is allowed |
| 3 | no plan meets every target (`project --gate`) |
| 130 | interrupted |

## Shell completion

One line, for bash (`zsh_source` and `fish_source` for the other two):

```bash
eval "$(_ECHOTALLY_COMPLETE=bash_source echotally)"
```

## Surroundings

`NO_COLOR` turns colours off; `COLUMNS` or `--width` sets the width into a pipe. `ECHOTALLY_CACHE` is the folder of compiled kernels
(default: the user's cache folder). `ECHOTALLY_DEBUG=1` shows where a fault of our own happened.
"""


def commands_page() -> str:
    """Every command with its help, in the order people work."""
    parts = [_HEAD]
    settings = {**cli.context_settings, "terminal_width": _WIDTH, "max_content_width": _WIDTH}
    program = click.Context(cli, info_name="echotally", **settings)
    for name in COMMANDS:
        context = _inside(program, cli, name)
        parts.append(f"## {name}\n\n{_help(context)}")
        if isinstance(context.command, click.Group):
            for inner in context.command.list_commands(context):
                parts.append(f"### {name} {inner}\n\n{_help(_inside(context, context.command, inner))}")
    return "\n".join(parts)


def _inside(context: click.Context, group: click.Group, name: str) -> click.Context:
    """Where a command of a group stands when it is typed."""
    command = group.get_command(context, name)
    assert command is not None
    return click.Context(command, context, info_name=name)


def _help(context: click.Context) -> str:
    return f"```text\n{context.get_help().rstrip()}\n```\n"
