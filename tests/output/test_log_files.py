"""Logs and tables that are written as they come are those that are written at once."""

from __future__ import annotations

import gzip
import json
import zlib

import duckdb
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from echotally.cells import harmless
from echotally.errors import BadInput
from echotally.evidence.telemetry.otlp_writing import write_otlp
from echotally.files import write_whole
from echotally.output.base import frames
from echotally.output.base.exports import csv_text
from echotally.output.base.frames import write_frame, write_frames


def parts() -> list[pd.DataFrame]:
    """Rows in parts of several lengths, one of them empty; texts that a spreadsheet would take for formulas."""
    whole = pd.DataFrame({"name": [f"=g{n % 7}" for n in range(95)], "ms": [n / 3 for n in range(95)], "n": range(95)})
    whole["at"] = pd.Timestamp("2027-03-01", tz="UTC") + pd.to_timedelta(whole["n"], unit="s")
    return [whole[first:last] for first, last in ((0, 40), (40, 40), (40, 41), (41, 95))]


@pytest.mark.parametrize("rows", [1, 7, 1_000])
def test_a_table_in_parts_is_the_table(tmp_path, monkeypatch, rows):
    monkeypatch.setattr(frames, "_ROWS", rows)
    whole = pd.concat(parts(), ignore_index=True)
    write_frames(iter(parts()), tmp_path / "parts.csv")
    write_frame(whole, tmp_path / "whole.csv")
    assert (tmp_path / "parts.csv").read_bytes() == (tmp_path / "whole.csv").read_bytes()
    for name in ("parts", "again"):
        write_frames(iter(parts()), tmp_path / f"{name}.parquet")
    found = duckdb.sql(f"SELECT * FROM '{tmp_path}/parts.parquet'").df()
    pd.testing.assert_frame_equal(found.astype({"at": whole["at"].dtype}), whole)
    assert (tmp_path / "parts.parquet").read_bytes() == (tmp_path / "again.parquet").read_bytes()


def test_export_requests_are_one_document_or_lines_and_packed_as_whole_files_are(tmp_path):
    requests = [{"resourceSpans": [{"n": n, "text": "ä,]"}] * n} for n in (2, 1, 3)]
    for name in ("s.json", "s.json.gz", "s.jsonl", "s.jsonl.gz"):
        write_otlp(tmp_path / name, iter(requests))
    document = (tmp_path / "s.json").read_bytes()
    assert json.loads(document) == {"resourceSpans": [each for r in requests for each in r["resourceSpans"]]}
    assert [json.loads(line) for line in (tmp_path / "s.jsonl").read_text().splitlines()] == requests
    for name in ("s.json", "s.jsonl"):
        packed = (tmp_path / f"{name}.gz").read_bytes()
        assert gzip.decompress(packed) == (tmp_path / name).read_bytes()
        assert packed == zlib.compress((tmp_path / name).read_bytes(), 9, zlib.MAX_WBITS + 16)
    write_otlp(tmp_path / "none.json", iter([]))
    assert json.loads((tmp_path / "none.json").read_text()) == {}


def test_a_file_whose_pieces_end_in_an_error_does_not_appear(tmp_path):
    def pieces():
        yield b"first"
        raise BadInput("no more")

    with pytest.raises(BadInput, match="no more"):
        write_whole(tmp_path / "log.csv", pieces())
    assert [*tmp_path.iterdir()] == []
    write_whole(tmp_path / "log.csv", iter([b"a", b"", b"b"]))
    assert (tmp_path / "log.csv").read_bytes() == b"ab"


CELLS = {
    "texts": st.one_of(
        st.text(max_size=6), st.sampled_from(["=1+1", "-3.5", "a,b", 'a"b', "a\nb", "\r", " ", "'x"]), st.none()
    ),
    "numbers": st.floats(width=64),
    "counts": st.integers(-(2**53), 2**53),
    "some counts": st.one_of(st.integers(-9, 10**12), st.none()),
    "whether": st.booleans(),
    "mixed": st.one_of(
        st.none(),
        st.integers(-5, 5),
        st.floats(-1, 1),
        st.booleans(),
        st.text("=-, x", max_size=3),
        st.decimals(-1, 1, places=3),
    ),
    "at": st.one_of(
        st.integers(0, 4 * 10**18),
        st.integers(0, 4 * 10**9).map(lambda s: s * 10**9),
        st.integers(0, 10**12).map(lambda s: s * 10**3),
        st.none(),
    ),
}


def _made(name, values):
    if name == "at":
        return pd.Series(pd.to_datetime(pd.Series(values, dtype="Int64"), unit="ns", utc=True))
    return pd.Series(values, dtype={"some counts": "Int64", "mixed": object}.get(name))


@given(st.data(), st.integers(0, 6))
def test_a_table_is_written_as_pandas_writes_it_cell_by_cell(data, rows):
    names = data.draw(st.lists(st.sampled_from(sorted(CELLS)), min_size=1, unique=True))
    frame = pd.DataFrame({n: _made(n, data.draw(st.lists(CELLS[n], min_size=rows, max_size=rows))) for n in names})
    cells = {
        name: column
        if pd.api.types.is_numeric_dtype(column)
        else pd.Series([harmless(v) for v in column], dtype=object)
        for name, column in frame.items()
    }
    assert csv_text(frame) == pd.DataFrame(cells).to_csv(index=False, lineterminator="\n")
    assert csv_text(frame, heading=False) == pd.DataFrame(cells).to_csv(index=False, header=False, lineterminator="\n")
