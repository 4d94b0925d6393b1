"""The stand-in platform's log as a file: rows, spans or metrics, as its name says."""

from __future__ import annotations

from pathlib import Path

from echotally.errors import BadInput, Problem
from echotally.output.base.frames import write_frames
from echotally.projection.loaded import Loaded

FORMS = (".csv", ".parquet", ".otlp.json", ".otlp.jsonl", ".metrics.json")


def log_form(path: Path, option: str) -> str:
    """Which form a log's name asks for, one of ``FORMS``; raises ``BadInput`` for any other."""
    name = path.name.lower().removesuffix(".gz")
    form = next((form for form in FORMS if name.endswith(form)), None)
    if form is None or (path.name.lower().endswith(".gz") and "json" not in form):
        allowed = "a name that ends in .csv or .parquet (rows), .otlp.json or .otlp.jsonl (spans), .metrics.json (metrics); .gz after json"
        raise BadInput(Problem("has no ending of a log", option, value=path.name, allowed=allowed))
    if not path.absolute().parent.is_dir():
        raise BadInput(Problem("cannot be written: No such file or directory", file=str(path)))
    return form


def write_log(loaded: Loaded, plan: str, seed: int | None, path: Path) -> None:
    """Play the month on a plan and write its log, so that it appears whole or not at all."""
    form = log_form(path, "--log")
    if form in (".csv", ".parquet"):
        from echotally.evidence.run_log import run_log

        write_frames(run_log(loaded, plan, seed), path)
        return
    from echotally.evidence.telemetry.otlp_counts import metrics
    from echotally.evidence.telemetry.otlp_spans import spans
    from echotally.evidence.telemetry.otlp_writing import write_otlp

    write_otlp(path, [metrics(loaded, plan, seed)] if form == ".metrics.json" else spans(loaded, plan, seed))
