"""The worked example of docs/adding-a-source.md is applied to a copy of the sources and played."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[2]
CARD = """
schema = "echotally-rates/1"
[card]
name = "made-up"
currency = "EUR"
[plans.plain]
bills = "runs"
memory = { choices = ["256 MB"] }
vcpu_per_gb = 1
[plans.plain.price]
calls = { unit = "1" }
"""


def test_the_worked_example_adds_a_kind_of_source_that_plays(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "adding-a-source.md").read_text(encoding="utf-8")
    parts = dict(re.findall(r"```(diff|toml)\n(.*?)```", page, re.S))
    shutil.copytree(ROOT / "src", tmp_path / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    subprocess.run(["git", "apply", "-"], cwd=tmp_path, input=parts["diff"], text=True, check=True)
    (tmp_path / "model.toml").write_text(parts["toml"])
    (tmp_path / "card.toml").write_text(CARD)
    # The plain form of the kernels: nothing need be compiled for so short a month.
    environment = {**os.environ, "PYTHONPATH": str(tmp_path / "src"), "ECHOTALLY_KERNELS": "checked"}
    command = [sys.executable, "-m", "echotally", "project", "model.toml", "--format", "json"]
    done = subprocess.run(command, cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=240)
    assert done.returncode == 0, done.stderr
    plan = json.loads(done.stdout)["plans"][0]
    # Two calls a noon over 31 days; the run of 10 s holds the only instance when the second comes.
    events = plan["functions"][0]["events"]
    assert (events["in"], events["succeeded"], events["lost"]) == (62, 31, 31)
    assert plan["cost"]["total"] == "31.00"
