"""A projection for other programs: CSV, Markdown, FOCUS rows, Parquet, and a workbook."""

from __future__ import annotations

from typing import TYPE_CHECKING

from echotally.errors import BadInput, Problem
from echotally.output.base.exports import csv_text, markdown_text, workbook
from echotally.output.base.frames import parquet
from echotally.projection.showback import showback_frame
from echotally.projection.tables import bill_frame, frame_at, functions_frame, series_frame

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from echotally.projection.answer import Projection
    from echotally.projection.over_time import Stretch

#: A sheet of a workbook holds at most 1,048,576 rows; the series of more plans and functions go into a file of their own.
_MOST_ROWS = 200_000


def projection_rows(
    projection: Projection, form: str, level: str = "functions", by: str | None = None, periods: Sequence[Stretch] = ()
) -> str:
    """One level as CSV, plans and functions as Markdown tables, or the picked plan's month as FOCUS rows (CSV).

    ``by``: in place of a level every plan's cost split that way; in Markdown below the others.
    """
    if form == "focus":
        return csv_text(focus_frame(projection, periods=periods))
    if form == "csv":
        return csv_text(showback_frame(projection, by) if by else frame_at(projection, level))
    tables = [frame_at(projection, each).dropna(axis=1, how="all") for each in ("plans", "functions")]
    tables += [_missed_frame(projection)] if any(plan.misses for plan in projection.played) else []
    tables += [showback_frame(projection, by).dropna(axis=1, how="all")] if by else []
    return "\n".join(markdown_text(table) for table in tables)


def _missed_frame(projection: Projection) -> pd.DataFrame:
    """Targets missed, in words, a row each: why a gate stays shut."""
    import pandas as pd

    from echotally.output.projection.verdict_text import check_text

    rows = [
        (plan.offer.name, check_text(miss, projection.currency))
        for plan in projection.by_cost()
        for miss in plan.misses
    ]
    return pd.DataFrame(rows, columns=["plan", "target missed"])


def projection_file(
    projection: Projection, ending: str, form: str, level: str = "functions", periods: Sequence[Stretch] = ()
) -> bytes:
    """The bytes of a .parquet file of one level, or of a .xlsx file of all."""
    if ending == ".parquet":
        return parquet(
            focus_frame(projection, typed=True, periods=periods) if form == "focus" else frame_at(projection, level)
        )
    if form == "focus":
        raise BadInput(Problem("FOCUS rows go into CSV or Parquet", "-o", value=ending, allowed=".csv or .parquet"))
    return workbook(
        {
            "Summary": _summary(projection),
            "Bill": bill_frame(projection),
            "Functions": functions_frame(projection),
            "Series": series_frame(projection).head(_MOST_ROWS),
            "Assumptions": assumptions_frame(projection),
        },
        projection.currency,
    )


def focus_frame(projection: Projection, typed: bool = False, periods: Sequence[Stretch] = ()) -> pd.DataFrame:
    """FOCUS rows of the picked (else closest) plan; ``typed``: costs and quantities as numbers, times as times; ``periods``:
    what they are dated by.

    Raises ``BadInput`` if no plan can run the estate.
    """
    import pandas as pd

    from echotally.evidence.bill.focus import COLUMNS, COMMITMENT_COLUMNS, NUMBERS, focus_rows

    name = projection.pick or projection.closest
    if name is None:
        raise BadInput(Problem("no plan can run this estate, so there is no bill", "--format"))
    rows = focus_rows(projection, name, periods)
    committed = COMMITMENT_COLUMNS if any(row.get(COMMITMENT_COLUMNS[0]) for row in rows) else ()
    frame = pd.DataFrame(rows, columns=[*COLUMNS, *committed])
    if typed:
        for column in NUMBERS:
            frame[column] = frame[column].astype(float)
        for column in (c for c in COLUMNS if c.endswith(("PeriodStart", "PeriodEnd"))):
            frame[column] = pd.to_datetime(frame[column])
        for column in ("ChargeClass", "CommitmentDiscountStatus", "InvoiceId"):
            frame[column] = frame[column].astype("string")
    return frame


def _summary(projection: Projection) -> pd.DataFrame:
    return frame_at(projection, "plans").dropna(axis=1, how="all")


def assumptions_frame(projection: Projection) -> pd.DataFrame:
    """What was assumed, and every value of the model in force, an address a row."""
    import pandas as pd

    from echotally.output.model.checked import values_in_force
    from echotally.output.projection.projection_table import assumptions
    from echotally.output.projection.verdict_text import verdict_lines

    rows = [("verdict", line) for line in verdict_lines(projection)]
    rows += [("assumed", line) for line in assumptions(projection)]
    rows += values_in_force(projection.model)
    return pd.DataFrame(rows, columns=["what", "value"])
