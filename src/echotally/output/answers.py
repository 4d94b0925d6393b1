"""What a result says of itself in Python: its verdict in a few lines, its first rows in a notebook."""

from __future__ import annotations

from collections.abc import Callable
from html import escape
from typing import TYPE_CHECKING, Any

from echotally.errors import safe
from echotally.findings.rule import LEVELS
from echotally.output.base.exports import markdown_text
from echotally.showing import late

if TYPE_CHECKING:
    import pandas as pd

#: Lines of a verdict in a prompt, and rows and columns of a table in a notebook.
_LINES, _ROWS, _COLUMNS = 6, 20, 10
_VIEWS = "echotally.output"
#: By class, where its verdict is made.
_VERDICTS = {
    "Projection": f"{_VIEWS}.projection.verdict_text:verdict_lines",
    "Sweep": f"{_VIEWS}.studies.sweep_view:sweep_verdict",
    "Drain": f"{_VIEWS}.studies.trial_views:drain_verdict",
    "LoadTrial": f"{_VIEWS}.studies.trial_views:load_verdict",
    "Crossover": f"{_VIEWS}.studies.crossover_view:crossover_verdict",
    "Choice": f"{_VIEWS}.studies.choose_view:choose_verdict",
    "Forecast": f"{_VIEWS}.studies.forecast_view:forecast_verdict",
    "Comparison": f"{_VIEWS}.studies.compare_view:compare_verdict",
    "Followed": f"{_VIEWS}.studies.follow_view:follow_verdict",
    "Fit": f"{_VIEWS}.evidence.fit_view:fit_verdict",
    "Survey": f"{_VIEWS}.evidence.survey_view:survey_verdict",
    "Reconciliation": f"{_VIEWS}.evidence.reconcile_view:reconcile_verdict",
    "FiringCheck": f"{_VIEWS}.model.firings_view:check_verdict",
}


def in_short(answer: Any) -> str:
    """Class and subject, the verdict, and how many rows there are."""
    lines = [line for line in verdict_of(answer) if line][:_LINES]
    frame = rows_of(answer)
    more = [f"{len(frame):,} rows: {_frame_call(answer)}"] if frame is not None else []
    head = f"{type(answer).__name__}{_subject(answer)}"
    return "\n".join(safe(line) for line in (head, *(f"  {line}" for line in (*lines, *more))))


def in_markdown(answer: Any) -> str:
    """The verdict in bold, its other lines, the first rows."""
    first, *rest = [*verdict_of(answer), ""]
    frame = rows_of(answer)
    parts = [f"**{_words(first)}**", *(_words(line) for line in rest if line)]
    if frame is not None and len(frame):
        parts += [markdown_text(_first(frame)).rstrip(), _left_out(frame)]
    return "\n\n".join(part for part in parts if part)


def in_html(answer: Any) -> str:
    """The same as a table of a notebook; nothing of a name is taken for a tag."""
    first, *rest = [*verdict_of(answer), ""]
    frame = rows_of(answer)
    parts = [f"<p><strong>{escape(safe(first))}</strong></p>"]
    parts += [f"<p>{escape(safe(line))}</p>" for line in rest if line]
    if frame is not None and len(frame):
        parts += [_first(frame).to_html(index=False, border=0, na_rep="", float_format="{:,.4g}".format)]
        parts += [f"<p>{escape(_left_out(frame))}</p>"] if _left_out(frame) else []
    return f"<div>{''.join(parts)}</div>"


def verdict_of(answer: Any) -> list[str]:
    """What a result says first; of what has no verdict, what it holds."""
    place = _VERDICTS.get(type(answer).__name__)
    if place:
        said: str | list[str] = late(place)(answer)
        return said.splitlines() if isinstance(said, str) else list(said)
    return _OTHERS[type(answer).__name__](answer)


def rows_of(answer: Any) -> pd.DataFrame | None:
    """The rows of a result, None where it has none."""
    kind = type(answer).__name__
    if kind == "Projection":
        plans: pd.DataFrame = answer.to_frame("plans")
        return plans
    if kind == "Checked":
        return _findings(answer)
    if hasattr(answer, "to_frame"):
        frame: pd.DataFrame = answer.to_frame()
        return frame
    return None


def _frame_call(answer: Any) -> str:
    return {"Projection": 'to_frame("plans")', "Checked": "findings"}.get(type(answer).__name__, "to_frame()")


def _subject(answer: Any) -> str:
    model = getattr(answer, "model", None) or getattr(getattr(answer, "loaded", None), "model", None)
    return f" of {model.estate.name}, {model.estate.month}" if model is not None else ""


def _first(frame: pd.DataFrame) -> pd.DataFrame:
    return frame.iloc[:_ROWS, :_COLUMNS]


def _left_out(frame: pd.DataFrame) -> str:
    rows, columns = max(0, len(frame) - _ROWS), max(0, len(frame.columns) - _COLUMNS)
    return f"and {rows:,} more rows, {columns} more columns" if rows or columns else ""


def _words(line: str) -> str:
    """Text that means itself in Markdown."""
    return "".join(f"\\{sign}" if sign in "\\`*_[]<>|" else sign for sign in safe(line))


def _findings(answer: Any) -> pd.DataFrame:
    import pandas as pd

    rows = [
        {
            "code": f.rule.code,
            "level": f.rule.level,
            "address": f.noticed.address,
            "what": f.rule.title,
            "saves": f.noticed.saves,
        }
        for f in answer.open()
    ]
    return pd.DataFrame(rows, columns=["code", "level", "address", "what", "saves"])


def _loaded(answer: Any) -> list[str]:
    model = answer.model
    return [
        f"{len(model.functions)} functions, {len(model.triggers)} triggers, {len(model.demand)} demands, {len(model.schedules)} schedules",
        f"{len(answer.offers)} plans: {', '.join(answer.offers)}",
    ]


def _played(answer: Any) -> list[str]:
    counts, card = answer.totals, answer.offer.card
    met = {True: "meets every target", False: f"misses {len(answer.misses)} target(s)", None: "undecided"}
    return [
        f"{answer.offer.name}: {answer.bill.total} {card.currency} a month, {met[answer.meets_targets]}",
        f"{counts.events['in']:,} events, {counts.attempts['total']:,} attempts, {counts.attempts['throttled']:,} throttled, played {answer.method}",
    ]


def _refused(answer: Any) -> list[str]:
    head = "was not played" if answer.feasible is None else "cannot run the estate"
    return [f"{answer.offer.name} {head}", *(f"{name}: {why}" for name, why in answer.reasons)]


def _checked(answer: Any) -> list[str]:
    levels = {level: len(answer.open(level)) for level in LEVELS}
    said = ", ".join(f"{n} of level {level}" for level, n in levels.items() if n) or "nothing"
    return [f"on {answer.plan}: {said}"]


def _replicated(answer: Any) -> list[str]:
    n = len(answer.seeds)
    return [f"picked {plan or 'none'} in {count} of {n} replications" for plan, count in answer.picks.items()]


def _demand(answer: Any) -> list[str]:
    return [f"{len(answer.sources)} sources, drawn with seed {answer.seed}"]


def _firings(answer: Any) -> list[str]:
    return [f"{schedule.name}: {schedule.preview.words}" for schedule in answer.schedules]


def _cards(answer: Any) -> list[str]:
    return [
        f"{answer.old} against {answer.new}, {answer.month}: the pick was {answer.pick_before}, it is {answer.pick_after}",
        *(f"{plan.plan}: {plan.before} to {plan.after} {answer.currency}" for plan in answer.plans),
    ]


def _measured(answer: Any) -> list[str]:
    run = answer.keys.run
    return [
        f"{answer.tried.what}: run {run.median.value:,.4g} ms at the median ({run.median.low:,.4g} to {run.median.high:,.4g})"
    ]


_OTHERS: dict[str, Callable[[Any], list[str]]] = {
    "Loaded": _loaded,
    "PlayedPlan": _played,
    "RefusedPlan": _refused,
    "Checked": _checked,
    "Replicated": _replicated,
    "DemandView": _demand,
    "FiringsView": _firings,
    "CardChange": _cards,
    "Measurement": _measured,
}
