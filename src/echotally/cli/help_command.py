"""``echotally help``."""

from __future__ import annotations

import click

from echotally.cli import commands, options


@commands.command(epilog="Examples: echotally help   |   echotally help units   |   echotally help Q04")
@click.argument("topic", required=False)
@options.width_option
@click.pass_context
def help(ctx: click.Context, topic: str | None, width: int | None) -> None:
    """Read the manual in the terminal: TOPIC is a page, a command, or the code of a finding; without one, what there is."""
    from echotally.cli.main import COMMANDS, cli
    from echotally.errors import BadInput
    from echotally.naming import no_such
    from echotally.output.base.manual import PAGES, contents, finding_text, page_text
    from echotally.output.base.writing import deliver

    if topic is None:
        deliver(contents(list(COMMANDS), width), None)
        return
    found = topic.lower().removesuffix(".md")
    if found in PAGES:
        deliver(page_text(found, width), None)
    elif found in COMMANDS:
        command = cli.get_command(ctx, found)
        assert command is not None
        click.echo(click.Context(command, ctx.find_root(), info_name=found).get_help())
    elif text := finding_text(topic.upper(), width):
        deliver(text, None)
    else:
        raise BadInput(no_such("page of the manual", "TOPIC", topic, [*PAGES, *COMMANDS]))
