"""Options that several commands share, each defined once with its unit, default and range."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar

import click
from click.core import ParameterSource
from msgspec.structs import replace

from echotally.cli import names
from echotally.cli.numbers import Whole
from echotally.files import hold_place
from echotally.model.addresses import override
from echotally.model.spoken import number_in
from echotally.output.base.manner import manner, written

Command = TypeVar("Command", bound=Callable[..., Any])


def _pairs(ctx: click.Context, param: click.Parameter, values: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    pairs = []
    for text in values:
        pair = override(text)
        if pair is None:
            raise click.BadParameter(f"'{text}' is not ADDRESS=VALUE, such as functions.intake.memory=\"1 GB\"")
        pairs.append(pair)
    return tuple(pairs)


def _columns(ctx: click.Context, param: click.Parameter, values: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    pairs = tuple((ours.strip(), theirs) for ours, _, theirs in (text.partition("=") for text in values))
    if not all(ours and theirs for ours, theirs in pairs):
        raise click.BadParameter("is not OURS=THEIRS, such as run=took_ms")
    return pairs


def only_where(applies: object, why: str, *names: str) -> None:
    """Refuse options that were typed and would have no effect, rather than ignore them."""
    context = click.get_current_context()
    typed = [
        option.opts[0]
        for option in context.command.params
        if option.name in names and context.get_parameter_source(option.name) is ParameterSource.COMMANDLINE
    ]
    if typed and not applies:
        raise click.UsageError(f"{typed[0]} has no effect {why}")


def check_zone(name: str) -> None:
    """Refuse what is no IANA zone."""
    from echotally.model.fields import Zone

    _check(Zone, "--timezone", name)


def check_month(text: str | None) -> None:
    """Refuse what is no month; an option left out is none."""
    from echotally.model.fields import Month

    if text is not None:
        _check(Month, "--month", text)


def _check(kind: Any, option: str, value: str) -> None:
    """Read an option's value as the model file's keys of that kind are read."""
    from pydantic import TypeAdapter, ValidationError

    from echotally.errors import BadInput, Refused

    try:
        TypeAdapter(kind).validate_python(value)
    except ValidationError as error:
        refused: Refused = error.errors()[0]["ctx"]["error"]
        raise BadInput(refused.at(option, value)) from error


def counts(ctx: click.Context | None, param: click.Parameter | None, texts: tuple[str, ...]) -> tuple[int, ...]:
    """Whole numbers from 1, separated by commas or given one after the other; none for an option left out."""
    text = ",".join(texts)
    numbers = [number_in(part) for part in text.split(",")] if text else []
    if any(n is None or n != n.to_integral_value() or not 1 <= n <= 1_000_000 for n in numbers):
        raise click.BadParameter(f"'{text}' is not numbers from 1 to 1,000,000 such as 1,5,50")
    return tuple(dict.fromkeys(int(n) for n in numbers if n is not None))


limits_option = click.option(
    "--limit",
    "limits",
    callback=counts,
    multiple=True,
    metavar="N,N,...",
    help="Instance limits (default: the model's).",
)


def duration(ctx: click.Context | None, param: click.Parameter | None, text: str | None) -> int | None:
    """A duration such as "5 min" in ns."""
    if text is None:
        return None
    from echotally.model.spoken import quantity
    from echotally.model.units import duration_ns

    try:
        return duration_ns(quantity(text) or text)
    except ValueError as error:
        raise click.BadParameter(f"'{text}' {error}") from error


def memory(ctx: click.Context | None, param: click.Parameter | None, text: str | None) -> int | None:
    """A memory size such as "512 MB" in MB."""
    if text is None:
        return None
    from echotally.model.units import memory_mb

    try:
        return memory_mb(text)
    except ValueError as error:
        raise click.BadParameter(f"'{text}' {error}") from error


model_argument = click.argument("model", type=click.Path(path_type=Path))
set_option = click.option(
    "--set",
    "sets",
    type=names.ADDRESS,
    multiple=True,
    metavar="ADDRESS=VALUE",
    callback=_pairs,
    help='Override one value of the model, such as functions.intake.memory="1 GB". An empty VALUE takes it out. May be repeated.',
)


def _out(ctx: click.Context, param: click.Parameter, path: Path | None) -> Path | None:
    """A dash is standard output, as without the option; a folder that is not there is told before anything is played."""
    if path is None or str(path) == "-":
        return None
    hold_place(path)
    return path


out_option = click.option(
    "-o",
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    callback=_out,
    help="Write the result to this file instead of standard output; its ending decides the form. - is standard output.",
)
width_option = click.option("--width", type=Whole(40, 400), help="Columns of the table (default: the terminal's).")
column_option = click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="OURS=THEIRS",
    callback=_columns,
    help="A column of the log by its own name: time, function, environment, run, cold_start, billed, memory, memory_used, "
    "outcome, events or id (default: guessed from the headings). May be repeated.",
)
seed_option = click.option(
    "--seed",
    type=Whole(0, 2**63 - 1),
    help="Seed of the random numbers (default: the model's, else 1).",
)


def _pixels(ctx: click.Context, param: click.Parameter, pixels: int | None) -> None:
    from echotally.output.base.charts import PIXELS, pixels_wide

    pixels_wide(pixels or PIXELS)


def plot_option(command: Command) -> Command:
    """``--plot``, and how wide the picture is."""
    for option in (
        click.option(
            "--plot-width",
            type=Whole(480, 3_840),
            metavar="PIXELS",
            expose_value=False,
            callback=_pixels,
            help="Width of the picture, 480 to 3840 pixels (default: 1280).",
        ),
        click.option(
            "--plot",
            type=click.Path(path_type=Path, dir_okay=False),
            help="Also draw a chart into this file (.png or .svg).",
        ),
    ):
        command = option(command)
    return command


def _day(ctx: click.Context, param: click.Parameter, text: str | None) -> date | None:
    """A calendar day, YYYY-MM-DD."""
    if text is None:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise click.BadParameter(f"'{text}' is no day, such as 2027-03-15") from None


def _moment(ctx: click.Context, param: click.Parameter, text: str | None) -> date | None:
    """A calendar day, or an instant of one (a ``datetime``), local where it has no offset."""
    if text is None:
        return None
    try:
        return date.fromisoformat(text) if len(text) == len("2027-03-15") else datetime.fromisoformat(text)
    except ValueError:
        raise click.BadParameter(f"'{text}' is no day or local time, such as 2027-03-14T05:00") from None


def window_options(command: Command) -> Command:
    """``--from`` and ``--step`` of commands that look at a part of the month closely; their ``--until`` takes a time of day."""
    for option in (
        click.option(
            "--step",
            metavar="DURATION",
            help="How long a step of that stretch is, such as '1 min' (default: by its length).",
        ),
        click.option(
            "--from",
            "from_",
            metavar="WHEN",
            callback=_moment,
            help="--series and charts show the month closely from this local day or time on, to --until: 2027-03-14T05:00.",
        ),
    ):
        command = option(command)
    return command


until_option = click.option(
    "--until",
    metavar="DATE",
    callback=_day,
    help="The bill goes up to this day's local midnight: lay it beside the month up to then.",
)


def until_with(bill: Path | None, until: date | None) -> None:
    """A bill so far needs the day up to which it goes."""
    if bill is not None and isinstance(until, datetime):
        raise click.UsageError("--so-far goes up to a day's midnight: --until YYYY-MM-DD")
    if bill is not None and until is None:
        raise click.UsageError("--so-far needs --until, the first day that is not billed yet")


def so_far_options(command: Command) -> Command:
    """``--so-far`` and ``--until`` of commands that say where a month lands."""
    for option in (
        click.option(
            "--until",
            metavar="WHEN",
            callback=_moment,
            help="With --so-far the first day that is not billed yet: from its local midnight on the month is played. With --from the end of what is shown, a local day or time.",
        ),
        click.option(
            "--so-far",
            "bill_so_far",
            metavar="BILL",
            type=click.Path(path_type=Path, dir_okay=False),
            help="This month's bill so far (FOCUS columns): with the rest as played, says where the month lands; with --until.",
        ),
    ):
        command = option(command)
    return command


def _splits(ctx: click.Context, param: click.Parameter, by: str | None) -> str | None:
    """Refuse what is no way to split before anything is played."""
    if by is not None:
        from echotally.projection.showback import splits_of

        splits_of(by)
    return by


by_option = click.option(
    "--by",
    type=names.SPLIT,
    metavar="SPLIT,...",
    callback=_splits,
    help="Also split the cost by function, environment, source, tag:NAME or outcome, or by several.",
)


cluster_option = click.option(
    "--cluster", metavar="ADDRESS", help="Play the months on the workers of the Dask scheduler at this address."
)


def study_options(command: Command) -> Command:
    """``--workers``, ``--store`` and ``--cluster`` of commands that play many points."""
    for option in (
        cluster_option,
        click.option(
            "--store",
            type=click.Path(path_type=Path, dir_okay=False),
            help="Keep finished points in this SQLite file, and go on from those that are there.",
        ),
        click.option("--workers", type=Whole(1, 1_024), help="Cores to use (default: all of them)."),
    ):
        command = option(command)
    return command


#: What the ending of a file says of its form.
_ENDINGS = {
    ".txt": "table",
    ".json": "json",
    ".csv": "csv",
    ".md": "markdown",
    ".sarif": "sarif",
    ".parquet": "",
    ".xlsx": "",
    ".html": "",
}
#: Endings of forms that no command writes; any other says nothing of a form.
_OTHERS = (
    ".doc",
    ".docx",
    ".gz",
    ".ods",
    ".pdf",
    ".png",
    ".svg",
    ".toml",
    ".tsv",
    ".xls",
    ".xml",
    ".yaml",
    ".yml",
    ".zip",
)
#: Forms that a file's ending may contradict; others are kinds of these.
_PLAIN = ("table", "json", "csv", "markdown")


def format_option(*formats: str, also: tuple[str, ...] = (), none: str = "") -> Callable[[Command], Command]:
    """``--format`` with the formats a command has; the first is the default, but where ``-o`` names a file its ending decides.

    ``also`` are endings that the command writes by itself; ``none`` says what holds where nothing is said and it is no one form.
    """
    known = (*formats, "plain") if "table" in formats else formats
    option = click.option(
        "--format",
        "form",
        type=click.Choice(known),
        default=None if none else formats[0],
        show_default=none or True,
        help="Form of the result; without it the ending of -o decides."
        + (" plain: the table line by line, for screen readers." if "table" in formats else ""),
    )

    def decorated(command: Command) -> Command:
        @wraps(command)
        def decided(*arguments: Any, **values: Any) -> Any:
            plain = values["form"] == "plain"
            values["form"] = _form("table" if plain else values["form"], values.get("out"), formats, also)
            with written(replace(manner(), plain=plain)):
                return command(*arguments, **values)

        return option(decided)  # type: ignore[return-value]

    return decorated


def _form(form: str, out: Path | None, formats: tuple[str, ...], also: tuple[str, ...]) -> str:
    """The form of a result: as typed, or as the name of the file says; raises where the two differ, or no such form is there."""
    ending = "" if out is None else out.suffix.lower()
    if ending in also or ending not in (*_ENDINGS, *_OTHERS):
        return form
    said = _ENDINGS.get(ending, "")
    typed = click.get_current_context().get_parameter_source("form") is ParameterSource.COMMANDLINE
    if typed and not (form in _PLAIN and said in _PLAIN and form != said):
        return form
    if typed:
        raise click.UsageError(f"--format {form} and -o {out} say different forms")
    if said in formats:
        return said
    known = [name for name, kind in _ENDINGS.items() if kind in formats] + list(also)
    raise click.UsageError(
        f"-o {out}: this command does not write {ending} files; it writes {', '.join(sorted(known))}"
    )
