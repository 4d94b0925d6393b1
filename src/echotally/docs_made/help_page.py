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

## Numbers, names, files

Numbers are taken as people write them: `10000`, `10_000`, `10k`, `1.5M`, `1e6`; times and rates as `5 min`, `5 minutes`, `12 /h`,
`12 per hour`, `every 5 minutes`. The model file itself knows only the forms of [units](units.md). A name may be given by its address
(`--queue queues.sms`). `-` is standard input where a model is read, and standard output after `-o`. The ending of `-o FILE` decides
the form (`.json`, `.csv`, `.md`, `.xlsx`, `.parquet`), or is refused where the command has no such form.

## What is said beside the answer

`--verbose` says on standard error what is read, played and kept, `--quiet` nothing. `--color always` or `never` decides over colours.
`echotally help TOPIC` shows a page of this manual, a command, or a finding.

## Options that need not be typed

`echotally.toml` beside the model, else in the folder one is in, sets options for every command that has them, and in a table for one:

```toml
width = 120

[project]
plan = ["heron.shared"]
all-meters = true
```

The environment does as well: `ECHOTALLY_PROJECT_WIDTH=120`, or `ECHOTALLY_WIDTH=120` for all. What is typed goes first, then the
environment, then the table of the command, then what stands above the tables. What was set beforehand is said on standard error.

## Shell completion

One line, for bash (`zsh_source` and `fish_source` for the other two):

```bash
eval "$(_ECHOTALLY_COMPLETE=bash_source echotally)"
```

Plans, functions, queues, schedules, environments, zones, tags and addresses are those of the model named before.

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
