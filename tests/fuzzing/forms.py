"""The compiled and the checked form of the kernels on the same estates: ``python -m tests.fuzzing.forms FIRST COUNT``.

With ``digests`` as a third word it prints what each estate gives in the form this process runs.
"""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from echotally.errors import BadInput
from tests.fuzzing.making import files_of

#: The checked form plays some thousand attempts a second.
_MOST_EVENTS = 400


def _bound_work() -> None:
    """Work that is tried over and over is refused early, alike in both forms."""
    from echotally.engine import watch

    for name, count in (
        ("_STEPS", 2_000),
        ("_ENTRIES", 6_000),
        ("_ENTRIES_AN_EVENT", 10),
        ("_LOOK_AHEAD_FROM", 4_000),
    ):
        setattr(watch, name, count)


def digests(first: int, count: int) -> dict[str, str]:
    """A digest of the projection of each case, or of its refusal; cases with too many events are left out."""
    from echotally.engine.sampling import expected_events
    from echotally.output.projection.projection_json import projection_json
    from echotally.projection.loaded import load, placement_on
    from echotally.projection.project import project_loaded

    _bound_work()
    found = {}
    with tempfile.TemporaryDirectory() as name:
        for case in range(first, first + count):
            for file, text in files_of(case, small=True).items():
                (Path(name) / file).write_text(text, encoding="utf-8")
            loaded = load(Path(name) / "model.toml")
            placements = [placement_on(loaded.model, loaded.offers, o) for o in loaded.offers.values()]
            if max(expected_events(loaded.model, loaded.month, p) for p in placements) > _MOST_EVENTS:
                continue
            try:
                text = projection_json(project_loaded(loaded, []))
            except BadInput as error:
                text = str(error)
            found[str(case)] = hashlib.blake2b(text.encode(), digest_size=12).hexdigest()
    return found


def differing(first: int, count: int) -> tuple[int, list[str]]:
    """How many cases were compared, and those whose two forms differ."""
    forms = []
    for form in ("checked", ""):
        command = [sys.executable, "-m", "tests.fuzzing.forms", str(first), str(count), "digests"]
        environment = os.environ | {"ECHOTALLY_KERNELS": form}
        done = subprocess.run(command, capture_output=True, text=True, env=environment, check=False)
        if done.returncode:
            return 0, [f"cases {first} to {first + count - 1}, form '{form}': {done.stderr[-600:]}"]
        forms.append(json.loads(done.stdout))
    return len(forms[0]), [case for case in forms[0] if forms[0][case] != forms[1].get(case)]


if __name__ == "__main__":
    if sys.argv[3:] == ["digests"]:
        print(json.dumps(digests(int(sys.argv[1]), int(sys.argv[2]))))
    else:
        print(*differing(int(sys.argv[1]), int(sys.argv[2])))
