"""Tables for other programs: CSV, Markdown, Parquet and a workbook. No cell of a model can become a formula."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import TYPE_CHECKING, Any

import numpy as np

from echotally.cells import harmless

if TYPE_CHECKING:
    import pandas as pd

#: The same tables give the same bytes, so a workbook does not tell when it was made.
_MADE = datetime(2000, 1, 1)
_MARKDOWN = str.maketrans(
    {
        "|": "\\|",
        "\n": " ",
        "\r": " ",
        "<": "&lt;",
        ">": "&gt;",
        "`": "\\`",
        "*": "\\*",
        "_": "\\_",
        "[": "\\[",
        "]": "\\]",
    }
)


def csv_text(frame: pd.DataFrame, heading: bool = True) -> str:
    """A table as CSV, harmless to spreadsheets."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    if heading:
        writer.writerow([str(name) for name in frame.columns])
    writer.writerows(zip(*(_csv_cells(frame[name]) for name in frame.columns), strict=True))
    return text.getvalue()


def _csv_cells(column: pd.Series) -> list[Any]:
    """What stands in a column, ready for a writer of CSV: "" for what is missing, texts harmless.

    Whole columns at a time: a table may be of millions of rows, and a function call a cell takes longer than all else.
    """
    import pandas as pd

    missing = column.isna().to_numpy()
    if isinstance(column.dtype, pd.DatetimeTZDtype) and str(column.dtype.tz) == "UTC":
        cells = _instants(column)
    elif pd.api.types.infer_dtype(column, skipna=True) == "string":
        # A few names stand in many rows.
        codes, texts = pd.factorize(column)
        known = [*(harmless(text) for text in texts.tolist()), ""]
        return [known[code] for code in codes.tolist()]
    elif column.dtype in ("int64", "float64", "bool"):
        cells = column.tolist()
    elif pd.api.types.is_numeric_dtype(column):
        cells = column.astype(str).tolist()
    else:
        cells = [harmless(value) for value in column]
    for place in missing.nonzero()[0].tolist():
        cells[place] = ""
    return cells


def _instants(column: pd.Series) -> list[str]:
    """Instants as pandas prints them one by one: to whole seconds, microseconds or nanoseconds, whichever tells all."""
    ns = column.dt.tz_localize(None).to_numpy().astype("datetime64[ns]")
    rest = ns.astype(np.int64) % 10**9
    lengths = np.select([rest == 0, rest % 1_000 == 0], [19, 26], 29).tolist()
    texts = np.datetime_as_string(ns, unit="ns").tolist()
    return [f"{text[:10]} {text[11:length]}+00:00" for text, length in zip(texts, lengths, strict=True)]


def markdown_text(frame: pd.DataFrame) -> str:
    """A table as Markdown (pipes, as in code reviews); names are escaped, numbers to six digits."""
    lines = [_line([str(name) for name in frame.columns]), _line(["---"] * len(frame.columns))]
    lines += [_line([_cell(value) for value in row]) for row in frame.itertuples(index=False, name=None)]
    return "\n".join(lines) + "\n"


def _line(cells: list[str]) -> str:
    return "| " + " | ".join(cells) + " |"


def _cell(value: Any) -> str:
    import pandas as pd

    if value is None or value is pd.NA or (isinstance(value, float) and value != value):
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.6g}"
    return escaped(str(value))


def escaped(text: str) -> str:
    """Text with what Markdown would take for a sign of its own made plain."""
    return text.translate(_MARKDOWN)


def workbook(sheets: Mapping[str, pd.DataFrame], currency: str) -> bytes:
    """A workbook, a sheet a table: numbers as numbers, money columns in ``currency``, text never as formulas."""
    import xlsxwriter

    paper = io.BytesIO()
    book = xlsxwriter.Workbook(
        paper, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
    )
    book.set_properties({"title": "Echo Tally projection", "created": _MADE})
    head = book.add_format({"bold": True, "bottom": 1, "text_wrap": True, "valign": "top"})
    money = book.add_format({"num_format": f'#,##0.00 "{currency}"'})
    share = book.add_format({"num_format": "0.000%"})
    for name, frame in sheets.items():
        sheet = book.add_worksheet(name)
        for column, heading in enumerate(frame.columns):
            form = (
                money if heading in ("cost", "amount", "total") else share if str(heading).endswith("share") else None
            )
            sheet.write_string(0, column, str(heading), head)
            width = max([len(str(heading)), *(len(str(value)) for value in frame[heading].head(200))])
            sheet.set_column(column, column, min(60, max(10, width + 2)), form)
            _fill(sheet, column, frame[heading])
        sheet.freeze_panes(1, 1)
    book.close()
    return paper.getvalue()


def _fill(sheet: Any, column: int, values: pd.Series) -> None:
    """A column's values below its heading; what is missing stays empty."""
    import pandas as pd

    for row, value in enumerate(values.tolist(), 1):
        if isinstance(value, str):
            # As many signs as a cell may hold.
            sheet.write_string(row, column, value[:32_767])
        elif isinstance(value, bool):
            sheet.write_boolean(row, column, value)
        elif value is not None and value is not pd.NA and value == value:
            sheet.write_number(row, column, float(value))


def in_form(form: str, text: Callable[[], str], data: Callable[[], str], rows: str = "rows") -> str:
    """A result as it was asked for: ``table`` from ``text``, ``json`` from ``data``, or as CSV or Markdown
    the list ``rows`` of that data, nested names joined by dots.
    """
    if form in ("csv", "markdown"):
        return as_table(data(), form, rows)
    return data() if form == "json" else text()


def as_table(data: str, form: str, rows: str = "rows") -> str:
    """The list ``rows`` of JSON text as CSV or Markdown; lists inside a row stay JSON. An empty list has its own name as heading."""
    import pandas as pd

    found = json.loads(data)[rows]
    flat = [dict(_flat(row, "") if isinstance(row, dict) else [(rows, row)]) for row in found]
    # As objects, so that whole numbers stay whole beside missing ones.
    frame = pd.DataFrame(flat, dtype=object) if flat else pd.DataFrame(columns=[rows])
    return csv_text(frame) if form == "csv" else markdown_text(frame)


def _flat(row: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, Any]]:
    for name, value in row.items():
        if isinstance(value, dict):
            yield from _flat(value, f"{prefix}{name}.")
        else:
            yield prefix + name, json.dumps(value) if isinstance(value, list) else value
