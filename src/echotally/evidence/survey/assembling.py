"""From tables of attempts to a draft of a model: its parts in their order, environments and incidents."""

from __future__ import annotations

from collections.abc import Mapping
from zoneinfo import ZoneInfo

from echotally.evidence.survey.draft import Draft, ms, span_toml, text_of
from echotally.evidence.survey.facts import Trouble
from echotally.evidence.survey.of_functions import OfFunctions
from echotally.evidence.survey.of_lines import OfLines
from echotally.evidence.survey.of_triggers import OfTriggers
from echotally.evidence.survey.regimes import changes_of
from echotally.evidence.survey.tables import Tables, Unit
from echotally.model.addresses import dotted


class Assembler(OfFunctions, OfTriggers, OfLines):
    """Makes one draft of one set of tables."""

    def made(self) -> Draft:
        """The whole draft, but for what is the estate's own."""
        for name, units in self.worlds.functions.items():
            self._function(name, units)
        for name, found in self.functions.items():
            self._set_off(name, found)
        self._lines()
        self._outside_services()
        self._environments()
        self._incidents()
        return self.draft

    def _environments(self) -> None:
        for name, world in self.worlds.environments.items():
            at = dotted(("environments", name))
            if world is None:
                self.draft.add(f"{at}.", "")
                continue
            self.draft.estimate(
                f"{at}.demand", f"{world.factor.value:.6g}", world.factor, world.n, "", "of the first one's events"
            )
            if not world.schedules:
                self.draft.add(f"{at}.schedules", "false", "none of its schedules fired there")

    def _incidents(self) -> None:
        number = 0
        for name, group in self.troubled.items():
            for trouble in group:
                self.draft.troubles.append(trouble)
                if not self._in_month(trouble.at.timestamp()):
                    continue
                at = f"incidents.{number}"
                number += 1
                when = trouble.at.astimezone(self.span.zone)
                self.draft.add(f"{at}.name", text_of(f"{name}: {trouble.kind} on {when:%d %b %H:%M}"))
                self.draft.add(f"{at}.at", f'"{when:%Y-%m-%dT%H:%M}"')
                self.draft.add(f"{at}.lasts", span_toml(trouble.lasts_s), "to a quarter of an hour")
                self.draft.add(f"{at}.functions", f"[{text_of(name)}]")
                if len(self.worlds.environments) > 1:
                    self.draft.add(f"{at}.environments", f"[{text_of(trouble.environment)}]")
                self._what_went_wrong(at, name, trouble)

    def _what_went_wrong(self, at: str, name: str, trouble: Trouble) -> None:
        said = f"{trouble.share:.0%} of {trouble.n:,} attempts, {trouble.usual:.2%} otherwise"
        if trouble.kind == "timeouts" and trouble.share > 0.8:
            longest = max(2 * (self.functions[name].sums.timeout or 60_000.0), 3_600_000.0)
            self.draft.add(f"{at}.run", ms(longest), f"hung until the timeout: {said}")
        elif trouble.kind == "timeouts":
            timeout, usual = self.functions[name].sums.timeout or 30_000.0, self.functions[name].sums.mean_run
            mix = f"{{ mix = [{{ share = {1 - trouble.share:.4g}, constant = {ms(usual)} }}, {{ share = {trouble.share:.4g}, constant = {ms(2 * timeout)} }}] }}"
            self.draft.add(f"{at}.run", mix, f"timed out: {said}")
        else:
            self.draft.add(f"{at}.error_rate", f"{trouble.share:.4g}", said)


def changes_in(tables: Tables, names: Mapping[str, list[Unit]], zone: ZoneInfo) -> dict[str, list[object]]:
    """Changes of each function for good, by its name in the log."""
    found: dict[str, list[object]] = {}
    versions = tables.query("SELECT f, version, min(t) FROM {seen} WHERE version IS NOT NULL GROUP BY f, version")
    for units in names.values():
        unit = units[0]
        mine = {str(v): float(at) for f, v, at in versions if f == unit[0]}
        changes = changes_of(unit[0], tables.counts[unit], tables.samples[unit], zone, mine)
        if changes:
            found[unit[0]] = list(changes)
    return found
