"""What each finding is worth, as bars: what its change saves a month, as it was played; what it costs, where it is meant to."""

from __future__ import annotations

from echotally.findings import Checked, Finding
from echotally.output.base.charts import COLOURS, INK, QUIET, TEXT, new_figure, picture, short, source_of, titled
from echotally.output.base.terminal import money

_MOST = 14


def findings_chart(checked: Checked, form: str) -> bytes:
    """The findings that are not accepted, those that save most on top; those without money after them, warnings first."""
    found = sorted(checked.open(), key=_rank)[:_MOST]
    currency = next(iter(checked.loaded.offers.values())).card.currency
    figure, (panel,) = new_figure()
    panel.grid(False, axis="y")
    values = [float(_worth(each)) for each in found]
    widest = max(map(abs, values), default=0.0) or 1.0
    for n, (each, value) in enumerate(zip(found, values, strict=True)):
        warns = each.rule.level != "hint"
        panel.barh(
            n,
            value,
            color=COLOURS[1] if warns else COLOURS[0],
            hatch="///" if warns else "",
            edgecolor="white",
            height=0.66,
        )
        said = f" {money(value)}" if abs(value) >= 0.005 else f" {short(each.noticed.effect, 60)}"
        panel.annotate(said, (max(value, 0.0), n), va="center", fontsize=TEXT, color=INK if value else QUIET)
    panel.set_yticks(range(len(found)), [f"{f.rule.code}  {short(f.noticed.address, 34)}" for f in found])
    panel.set_ylim(max(len(found), 6) - 0.4, -0.6)
    panel.set_xlim(min(0.0, 1.1 * min(values, default=0.0)), widest * 1.6)
    panel.axvline(0, color=INK, linewidth=1)
    panel.set_xlabel(f"saved a month ({currency}) by the change that was tried")
    titled(
        panel,
        _finding(checked, found, currency),
        f"Looked at on {checked.plan}; hatched: warnings and errors, plain: hints{_untried(checked)}",
    )
    return picture(figure, form, source_of(checked.loaded.model))


def _untried(checked: Checked) -> str:
    left = sum(checked.untried.values())
    return f"; {left:,} more changes were not tried (check --every does)" if left else ""


def _worth(finding: Finding) -> float:
    """What the change saves a month: as it was played, else as the rule says."""
    noticed = finding.noticed
    if noticed.outcome is not None and not noticed.outcome.opens:
        return -float(noticed.outcome.cost)
    return float(noticed.saves or 0)


def _rank(finding: Finding) -> tuple[float, int]:
    return -_worth(finding), {"error": 0, "warning": 1}.get(finding.rule.level, 2)


def _finding(checked: Checked, found: list[Finding], currency: str) -> str:
    if not found:
        return "Nothing found"
    best = found[0]
    worth = _worth(best)
    many = len(checked.open())
    said = f"{many} finding{'s' if many > 1 else ''}"
    return f"{said}; {best.noticed.address} alone is worth {money(worth)} {currency} a month" if worth >= 1 else said
