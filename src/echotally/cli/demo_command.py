"""``echotally demo``."""

from __future__ import annotations

from pathlib import Path
from shlex import quote

import click

from echotally.cli import commands, options
from echotally.cli.progress import prepare_simulation, progress_line
from echotally.output.base.writing import deliver


@commands.command(epilog="Example: echotally demo river-watch")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False), default="river-watch")
@options.width_option
def demo(folder: Path, width: int | None) -> None:
    """Write the river-watch example (model, three made-up rate cards, logs) into FOLDER and run it."""
    from echotally.demo import write_example

    written = write_example("river-watch", folder)
    click.echo(
        f"Wrote {len(written)} files into {folder}/: a model, three made-up rate cards, a trace of visitors, logs and a bill.",
        err=True,
    )
    prepare_simulation()
    from echotally.output.projection.projection_table import projection_text
    from echotally.projection.project import project

    model = folder / "river.toml"
    typed = quote(str(model))
    with progress_line() as tell:
        result = project(model, progress=tell)
    deliver(projection_text(result, width), None)
    click.echo(
        f"\nTry next:\n"
        f"  echotally project {typed} --set functions.map.instance_limit=20    # one change, what moves?\n"
        f"  echotally check {typed} --defaults                                # every value in force\n"
        f"  echotally start my-estate                                          # a model of your own"
    )
