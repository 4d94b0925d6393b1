"""Findings as text, as data, and as SARIF 2.1.0 (an open standard for results of static analysis)."""

from __future__ import annotations

import json
import shlex
import textwrap
from collections.abc import Sequence
from itertools import groupby
from typing import Any

from echotally.errors import Problem, safe
from echotally.findings import RULES, Checked, Finding
from echotally.output.base.terminal import money, seconds
from echotally.output.model.checked import checked_text

_WIDTH = 100
#: Places of one finding shown in the terminal.
_MOST_SHOWN = 5
_SARIF_LEVEL = {"error": "error", "warning": "warning", "hint": "note"}


#: Figures that are judged and not told: cold starts tell of these.
_TOLD_BY_OTHERS = {"cold_calls"}


def change_text(finding: Finding) -> str:
    """The change to try, as it is typed."""
    return " ".join(f"--set {shlex.quote(f'{address}={value}')}" for address, value in finding.noticed.sets)


def findings_text(checked: Checked) -> str:
    """What the model holds, then each finding: where, what, what it costs, what to try; accepted ones last."""
    # The plan first: what is found, and what it costs, is true of that plan.
    parts = [checked_text(checked.loaded), f"Looked at on {checked.plan}. {_counted(checked)}\n", _untried(checked)]
    accepted = [f for f in checked.findings if f.accepted is not None]
    for _, group in groupby(checked.open(), key=lambda f: f.rule.code):
        parts.append(_group(list(group)))
    if accepted:
        parts.append("\nAccepted:\n")
        parts += [f"  {f.rule.code} {safe(f.noticed.address)}: {safe(f.accepted or '')}\n" for f in accepted]
    return "".join(parts)


def _counted(checked: Checked) -> str:
    found = {level: len(checked.open(level)) for level in ("error", "warning", "hint")}
    said = [f"{n} {level}{'s' if n > 1 else ''}" for level, n in found.items() if n]
    return ("Findings: " + ", ".join(said) + ".") if said else "Nothing found."


def _untried(checked: Checked) -> str:
    return "".join(f"{line}\n" for line in textwrap.wrap(untried_said(checked), _WIDTH))


def untried_said(checked: Checked) -> str:
    """What was not tried, why, and how it is; nothing where all was."""
    if not checked.untried:
        return ""
    codes = ", ".join(f"{n} of {code}" for code, n in sorted(checked.untried.items()))
    return (
        f"Changes that were not tried: {codes}. Each takes the month of a large part of the estate, whose functions are "
        "wired to each other or share what ran short; what they would have shown may be missing below, or stands there "
        "without a change. check --every tries them all."
    )


def _group(findings: list[Finding]) -> str:
    """Findings of one code under one heading, worst money first; of many the first few."""
    rule, shown = findings[0].rule, findings[:_MOST_SHOWN]
    # One mistake made in twenty functions is one thing to learn, not twenty.
    many = f" ({len(findings)} places)" if len(findings) > 1 else ""
    text = f"\n{rule.level} {rule.code}: {rule.title}{many}\n" + "".join(_one(f) for f in shown)
    left = len(findings) - len(shown)
    return text + (f"  ... and {left} more of {rule.code}; --format json has all.\n" if left else "")


def _one(finding: Finding) -> str:
    noticed = finding.noticed
    place = f"{finding.file}:{finding.line}: " if finding.line else ""
    lines = [
        f"  {place}{safe(noticed.address)}: {safe(noticed.text)}.",
        f"  Effect: {safe(noticed.effect)}.",
    ]
    if noticed.sets:
        lines.append(f"  Try:    {safe(change_text(finding))}    # {outcome_text(finding)}")
    if finding.follow:
        lines.append(f"  See:    {safe(finding.follow)}")
    return "\n".join(lines) + "\n"


def outcome_text(finding: Finding) -> str:
    """What the change did when it was played, in a few words."""
    outcome = finding.noticed.outcome
    if outcome is None:
        return "not played"
    # There is no cost before to compare with: the plan could not take the estate.
    if outcome.opens:
        return "makes the plan usable"
    saved = -outcome.cost
    said = [
        f"saves {money(saved)} a month"
        if saved > 0
        else f"costs {money(-saved)} a month"
        if saved < 0
        else "costs the same"
    ]
    for name, (before, after) in outcome.figures.items():
        if name == "wait_p95_s":
            # Below half a millisecond both would be shown as the same number.
            if abs(after - before) > 0.0005:
                said.append(f"wait p95 {seconds(before)} to {seconds(after)} s")
        elif before != after and name not in _TOLD_BY_OTHERS:
            said.append(f"{name.replace('_', ' ')} {before:,.0f} to {after:,.0f}")
    if outcome.sampled:
        # Of a sample nothing is said to the cent.
        return "on a sample of the month: about " + ", ".join(said)
    return ", ".join(said) + (", nothing else changes" if len(said) == 1 else "")


def findings_json(checked: Checked) -> str:
    """The findings as data (schema ``echotally-findings/1``)."""
    rows = [
        {
            "code": f.rule.code,
            "level": f.rule.level,
            "title": f.rule.title,
            "address": f.noticed.address,
            "file": f.file,
            "line": f.line,
            "rule": f.rule.cites,
            "text": f.noticed.text,
            "effect": f.noticed.effect,
            "set": [f"{address}={value}" for address, value in f.noticed.sets],
            "outcome": _outcome(f),
            "saves": None if f.noticed.saves is None else f"{f.noticed.saves:.6f}",
            "accepted": f.accepted,
            "follow": f.follow,
        }
        for f in checked.findings
    ]
    data = {"schema": "echotally-findings/1", "plan": checked.plan, "findings": rows, "untried": dict(checked.untried)}
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


#: The code of what is no finding but a mistake: what cannot be read as it stands.
MISTAKE = ("E00", "a mistake in the files")


def mistakes_json(problems: Sequence[Problem]) -> str:
    """Mistakes in the files in the form of findings, so that a system that reads those is told of them too."""
    rows: list[dict[str, Any]] = [
        {
            "code": MISTAKE[0],
            "level": "error",
            "title": MISTAKE[1],
            "address": p.address,
            "file": p.file,
            # As a finding has it, so that one reader of the document serves both.
            "line": p.line,
            "rule": None,
            "text": p.said(),
            "effect": "nothing is played",
            "set": [],
            "outcome": None,
            "saves": None,
            "accepted": None,
            "follow": None,
        }
        for p in problems
    ]
    return (
        json.dumps({"schema": "echotally-findings/1", "plan": None, "findings": rows}, indent=2, ensure_ascii=False)
        + "\n"
    )


def mistakes_sarif(problems: Sequence[Problem]) -> str:
    """As ``mistakes_json``, as a SARIF log."""
    # What was typed on the command line stands in no file.
    return _sarif(
        [
            _place(MISTAKE[0], "error", str(p), "" if p.file.startswith("-") else p.file, p.line, p.address)
            for p in problems
        ]
    )


def _outcome(finding: Finding) -> dict[str, Any] | None:
    """What the change did, as data: cost after less before, and each figure before and after; None where it was not played."""
    outcome = finding.noticed.outcome
    if outcome is None:
        return None
    figures = {name: {"before": before, "after": after} for name, (before, after) in outcome.figures.items()}
    return {
        "cost": f"{outcome.cost:.6f}",
        "sampled": outcome.sampled,
        "makes_the_plan_usable": outcome.opens,
        **figures,
    }


def findings_sarif(checked: Checked) -> str:
    """The findings as a SARIF log of one run; accepted findings are suppressed results with their reason."""
    # Whoever reads only this must learn that there was more to look at.
    untried = [_notification(checked)] if checked.untried else []
    return _sarif([_result(f) for f in checked.findings], untried)


def _notification(checked: Checked) -> dict[str, Any]:
    return {"level": "note", "message": {"text": untried_said(checked)}}


def _sarif(results: list[dict[str, Any]], told: Sequence[dict[str, Any]] = ()) -> str:
    rules = [
        {
            "id": rule.code,
            "shortDescription": {"text": rule.title},
            "fullDescription": {"text": rule.why},
            "defaultConfiguration": {"level": _SARIF_LEVEL[rule.level]},
        }
        for rule in RULES.values()
    ]
    mistake = {
        "id": MISTAKE[0],
        "shortDescription": {"text": MISTAKE[1]},
        "fullDescription": {"text": "What cannot be read as it stands: nothing is played until it is mended."},
        "defaultConfiguration": {"level": "error"},
    }
    driver = {"name": "Echo Tally", "rules": [mistake, *rules]}
    run: dict[str, Any] = {"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}
    if told:
        run["invocations"] = [{"executionSuccessful": True, "toolExecutionNotifications": list(told)}]
    return json.dumps({"version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=False) + "\n"


def _result(finding: Finding) -> dict[str, Any]:
    noticed = finding.noticed
    text = f"{noticed.address}: {noticed.text}. Effect: {noticed.effect}."
    if noticed.sets:
        text += f" Try: {change_text(finding)}"
    level = _SARIF_LEVEL[finding.rule.level]
    result = _place(finding.rule.code, level, text, finding.file, finding.line, noticed.address)
    if finding.accepted is not None:
        result["suppressions"] = [{"kind": "inSource", "justification": finding.accepted}]
    return result


def _place(code: str, level: str, text: str, file: str, line: int | None, address: str) -> dict[str, Any]:
    """One SARIF result at its place."""
    physical: dict[str, Any] = {"artifactLocation": {"uri": file.replace("\\", "/")}}
    if line:
        physical["region"] = {"startLine": line}
    place: dict[str, Any] = {"physicalLocation": physical} if file else {}
    if address:
        place["logicalLocations"] = [{"fullyQualifiedName": address}]
    return {"ruleId": code, "level": level, "message": {"text": text}, "locations": [place] if place else []}
