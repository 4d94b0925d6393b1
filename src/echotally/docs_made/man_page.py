"""The man page of the program, made from its own help, in the classic macros that every formatter reads."""

from __future__ import annotations

import click

from echotally.cli.main import COMMANDS, cli

_EXIT_STATUS = (
    ("0", "done"),
    ("1", "our own fault: please report it"),
    ("2", "bad input or usage"),
    ("3", "no plan meets every target (project \\-\\-gate)"),
    ("130", "interrupted"),
)
_ENVIRONMENT = (
    ("NO_COLOR", "no colours"),
    ("COLUMNS", "the width of tables into a pipe"),
    ("ECHOTALLY_CACHE", "the folder of compiled kernels"),
    ("ECHOTALLY_OPTION, ECHOTALLY_COMMAND_OPTION", "an option that need not be typed, such as ECHOTALLY_WIDTH"),
    ("ECHOTALLY_DEBUG", "show where a fault of our own happened"),
)


def man_page() -> str:
    """``echotally.1``: what it is for, every command with its options, exit codes, surroundings."""
    program = click.Context(cli, info_name="echotally")
    parts = [
        '.TH ECHOTALLY 1 "" "" "Echo Tally"',
        ".SH NAME",
        "echotally \\- play a month of event\\-driven functions: throttling, concurrency and cost for each hosting plan",
        ".SH SYNOPSIS",
        ".B echotally",
        "COMMAND [OPTIONS] ...",
        ".SH DESCRIPTION",
        _set(cli.help or ""),
        ".SH COMMANDS",
    ]
    for name in COMMANDS:
        command = cli.get_command(program, name)
        assert command is not None
        parts += _command(command, program, name)
    parts += [
        ".SH EXIT STATUS",
        *_rows(_EXIT_STATUS),
        ".SH ENVIRONMENT",
        *_rows(_ENVIRONMENT),
        ".SH FILES",
        *_rows((("echotally.toml", "beside the model, or here: options that need not be typed"),)),
        ".SH SEE ALSO",
        "echotally help shows the manual: tutorial, questions, keys, rules and more.",
    ]
    return "\n".join(parts) + "\n"


def _command(command: click.Command, above: click.Context, name: str) -> list[str]:
    context = click.Context(command, above, info_name=name)
    parts = [
        f".SS {_plain(context.command_path)} {_plain(' '.join(command.collect_usage_pieces(context)))}",
        _set(command.help or ""),
    ]
    if isinstance(command, click.Group):
        for inner in command.list_commands(context):
            found = command.get_command(context, inner)
            assert found is not None
            parts += _command(found, context, inner)
        return parts
    for param in command.params:
        record = param.get_help_record(context)
        if record is not None and record[1]:
            parts += [".TP", f".B {_plain(record[0])}", _set(record[1])]
    return parts


def _rows(rows: tuple[tuple[str, str], ...]) -> list[str]:
    return [line for term, said in rows for line in (".TP", f".B {term}", said)]


def _set(text: str) -> str:
    """Running text: paragraphs apart, and no line that a formatter takes for a request."""
    paragraphs = [" ".join(part.split()) for part in text.replace("\b", "").split("\n\n")]
    return "\n.PP\n".join(_plain(part) for part in paragraphs if part)


def _plain(text: str) -> str:
    safe = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{safe}" if safe.startswith((".", "'")) else safe
