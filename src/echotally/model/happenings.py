"""What happens to functions within a month: incidents, releases, floors that change by the clock (rule 8)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal, Self

from pydantic import ConfigDict, Field, model_validator

from echotally.errors import Refused
from echotally.model import fields as f
from echotally.model import key_rules as shapes

#: What an incident may change, and of that what belongs to whole accounts.
EFFECTS = ("run_times", "run", "error_rate", "concurrency_limit", "no_new_instances")
OF_ACCOUNTS = ("concurrency_limit", "no_new_instances")


def _one_time(table: Incident | Release) -> None:
    if (table.cron is None) == (table.at is None):
        raise Refused("needs one of cron and at", "cron for what returns, at for a single time")


class Incident(f.Strict):
    """Trouble that lasts: from ``at``, or from each firing of ``cron``, what it names is so for as long as it ``lasts``."""

    model_config = ConfigDict(
        json_schema_extra=shapes.all_of(
            shapes.exactly_one("cron", "at"),
            shapes.at_least_one(*EFFECTS),
            *({"if": {"required": [key]}, "then": shapes.none_of("functions")} for key in OF_ACCOUNTS),
        )
    )

    name: f.Name
    at: f.Moment | None = None
    cron: str | None = None
    lasts: f.PositiveDuration
    functions: Annotated[tuple[f.Name, ...], Field(min_length=1)] | None = None
    environments: Annotated[tuple[f.Name, ...], Field(min_length=1)] | None = None
    run_times: f.Factor | None = None
    run: f.RunSpread | None = None
    error_rate: f.Share | None = None
    concurrency_limit: f.Count | None = None
    no_new_instances: Literal[True] | None = None

    def words(self) -> str:
        """What it does, in a few words."""
        said: dict[str, Callable[[Any], str]] = {
            "run_times": lambda value: f"runs take {value:g} x as long",
            "run": lambda value: f"every run takes {value.text}",
            "error_rate": lambda value: f"{100 * value:g} % of runs fail",
            "concurrency_limit": lambda value: f"at most {value} calls at once in the account",
            "no_new_instances": lambda _: "no instance starts",
        }
        return ", ".join(tell(getattr(self, key)) for key, tell in said.items() if getattr(self, key) is not None)

    @model_validator(mode="after")
    def _forms_fit(self) -> Self:
        _one_time(self)
        if all(getattr(self, key) is None for key in EFFECTS):
            raise Refused("an incident that changes nothing", f"one or more of {', '.join(EFFECTS)}")
        stray = [key for key in OF_ACCOUNTS if getattr(self, key) is not None]
        if self.functions is not None and stray:
            raise Refused(f"{' and '.join(stray)} hold for whole accounts, not for functions", "leave functions out")
        return self


class Release(f.Strict):
    """A new version goes live: instances of the old one take no further calls."""

    model_config = ConfigDict(json_schema_extra=shapes.exactly_one("cron", "at"))

    at: f.Moment | None = None
    cron: str | None = None

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        _one_time(self)
        return self


class FloorChange(f.Strict):
    """From each firing on the fewest instances are so many."""

    cron: str
    floor: f.Count
