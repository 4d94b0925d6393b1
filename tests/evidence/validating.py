"""The FOCUS specification's own validator, where it is installed (``scripts/focus_validator``; it needs Python 3.12)."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

#: What the specification calls applicability criteria: those that hold for a projection.
CRITERIA = (
    "ACCOUNT_NAMING_SUPPORTED,NEGOTIATED_PRICING_SUPPORTED,USAGE_MEASUREMENT_SUPPORTED,UNIT_PRICING_SUPPORTED,SUB_ACCOUNT_SUPPORTED,"
    "BILLING_BASED_ON_PROVISIONED_RESOURCES_SUPPORTED,RESOURCE_TYPE_ASSIGNMENT_SUPPORTED,REGION_SUPPORTED,TAGGING_SUPPORTED,"
    "MULTIPLE_PRICING_CATEGORIES_SUPPORTED,PUBLIC_PRICE_LIST_SUPPORTED"
)


def faults(bill: Path) -> list[str]:
    """The rules a bill breaks; the test is skipped where no validator is named in ECHOTALLY_FOCUS_VALIDATOR."""
    home = os.environ.get("ECHOTALLY_FOCUS_VALIDATOR")
    if not home:
        pytest.skip("the validator is not installed (scripts/focus_validator)")
    site = next(Path(home).glob("lib/python3*/site-packages"))
    arguments = [f"{home}/bin/focus-validator", "--data-file", str(bill), "--validate-version", "1.2.0.1", "--block-download",
                 "--focus-dataset", "CostAndUsage", "--applicability-criteria", CRITERIA]  # fmt: skip
    done = subprocess.run(arguments, cwd=site, capture_output=True, text=True, timeout=200)
    assert "Total:" in done.stdout + done.stderr, done.stderr[-500:]
    return [line.split(":")[0].split()[-1] for line in (done.stdout + done.stderr).splitlines() if ": FAIL" in line]
