"""Write every answer anew: ``python -m tests.unchanged``."""

import tempfile
from pathlib import Path

from tests.unchanged import ESTATES, HERE, answer, written

for estate in ESTATES:
    with tempfile.TemporaryDirectory() as folder:
        text = written(answer(estate, Path(folder)))
    (HERE / "answers" / f"{estate.stem}.jsonl").write_text(text, encoding="utf-8")
