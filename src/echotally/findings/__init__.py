"""``check``: what a seasoned colleague would notice in this model, each with one change to try."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import field
from msgspec.structs import replace

from echotally.errors import BadInput, Problem
from echotally.findings import asking, limits, memory, money, schedules, sources, timeouts, trouble, wiring
from echotally.findings.context import Context
from echotally.findings.judging import judged
from echotally.findings.looking import looked
from echotally.findings.rule import LEVELS, RULES, Finding, Noticed, Rule
from echotally.model.addresses import address_parts, parts_in
from echotally.model.loading import ModelSource
from echotally.model.reading import Document
from echotally.projection.answer import PlayedPlan, Projection
from echotally.projection.loaded import Loaded, all_sets, load
from echotally.projection.playing import Playing
from echotally.projection.project import project_loaded
from echotally.projection.threads import MANY, Progress
from echotally.projection.tried import Trial, trial_of
from echotally.projection.worth_following import worth_following
from echotally.rates.card_loading import Offer, candidates
from echotally.showing import Answer

__all__ = ["LEVELS", "RULES", "Checked", "Finding", "Noticed", "Rule", "check_model"]
#: Importing them is what registers their rules.
_RULE_MODULES = (schedules, timeouts, memory, sources, limits, money, wiring, asking, trouble)
#: From so many functions on, in all environments, several processes are sooner done than threads: most of a small part's time is not
#: the kernels'.
_ASIDE = 64


class Checked(Answer, frozen=True):
    """A model looked at: its findings, worst first, and the plan they were looked at on.

    ``untried``: by the code of a rule, changes that were not played since each takes a large part of the estate.
    """

    loaded: Loaded
    plan: str
    findings: tuple[Finding, ...]
    untried: Mapping[str, int] = field(default_factory=dict)

    def open(self, *levels: str) -> list[Finding]:
        """Findings of these levels (all without any) that the model does not accept."""
        return [f for f in self.findings if f.accepted is None and (not levels or f.rule.level in levels)]


def check_model(
    path: ModelSource | Loaded,
    sets: Iterable[tuple[str, str]] = (),
    plan: str | None = None,
    known: Projection | None = None,
    *,
    every: bool = False,
    aside: bool = False,
    progress: Progress | None = None,
) -> Checked:
    """Look at a model with every rule, on ``plan`` or else the plan ``project`` picks (closest, first).

    ``known``: what ``project`` has said of the same model on the same plans, which is then not played again. ``every``: try every
    change, also where each takes a large part of the estate; without it some of each rule are (``Checked.untried`` are left).
    ``aside``: changes to many functions are tried by several processes (see ``share_work``). ``progress`` is told (what, share done).
    Raises ``BadInput`` for mistakes in the files, an unknown plan, or an accepted finding that does not exist.
    """
    loaded, sets = load(path, sets := tuple(sets)), all_sets(path, sets)
    _known_codes(loaded)
    whole = Context(loaded.document.path, sets, loaded, *_played(loaded, plan, known, progress), every)
    views = {rule.code: whole.of_a_rule() for rule in RULES.values()}
    # Of a sample of very many functions each process would hold as much again; threads share it, and take a third longer.
    crowded = loaded.model.units >= MANY and whole.base is not None and whole.base.confidence is not None
    aside = aside and loaded.model.units >= _ASIDE and not crowded
    seen = [(rule, views[rule.code], noticed) for rule, found in looked(views, aside, progress) for noticed in found]
    found = [
        _placed(loaded.document, rule, judged(ctx, noticed), _accepted(loaded, rule, noticed), _follow(ctx, noticed))
        for rule, ctx, noticed in seen
    ]
    order = {level: n for n, level in enumerate(LEVELS)}
    # Findings of one code stay together, the code whose worst is worth most money first.
    worth = {
        rule.code: max((f.noticed.saves or 0 for f in found if f.rule is rule), default=0) for rule in RULES.values()
    }
    found.sort(
        key=lambda f: (
            f.accepted is not None,
            order[f.rule.level],
            -worth[f.rule.code],
            f.rule.code,
            -(f.noticed.saves or 0),
            f.noticed.address,
        )
    )
    untried = {code: ctx.untried for code, ctx in views.items() if ctx.untried}
    return Checked(loaded, whole.offer.name, tuple(found), untried)


def _played(
    loaded: Loaded, plan: str | None, known: Projection | None, progress: Progress | None
) -> tuple[Offer, PlayedPlan | None, dict[str, Trial]]:
    """The plan to look at, the month played on it, and what it came to on all that were played to find it."""
    # Changes are tried with the model's own seed, and a difference must not be one of seeds.
    same = known is not None and known.seed == loaded.model.estate.seed
    result = known if known and same else None
    # When start tokens were taken says which changes may be tried apart.
    result = result or project_loaded(loaded, [plan] if plan else [], None, progress, None, Playing(starts=True))
    played = {each.offer.name: each for each in result.plans if isinstance(each, PlayedPlan)}
    if plan:
        played = {name: each for name, each in played.items() if name == plan}
    name = plan or result.pick or result.closest
    offer = loaded.offers[name] if name else candidates(loaded.model, loaded.offers)[0]
    # What was measured on the others is let go.
    came_to = {each: replace(trial_of(it, it.confidence is not None), part=()) for each, it in played.items()}
    return offer, played.get(offer.name), came_to


def _follow(ctx: Context, noticed: Noticed) -> str | None:
    """A command that shows what happens to an event of the function that a finding is about."""
    table, name, *_ = (*address_parts(noticed.address), "")
    if ctx.base is None or table != "functions" or name not in ctx.model.functions:
        return None
    return worth_following(ctx.base, name)


def _placed(document: Document, rule: Rule, noticed: Noticed, accepted: str | None, follow: str | None) -> Finding:
    place = document.problem(address_parts(noticed.address), "")
    return Finding(rule, noticed, str(document.path), place.line, accepted, follow)


def _accepted(loaded: Loaded, rule: Rule, noticed: Noticed) -> str | None:
    for accepted in loaded.model.accepted:
        at = () if accepted.at is None else parts_in(loaded.document.data, accepted.at)
        if accepted.finding == rule.code and address_parts(noticed.address)[: len(at)] == at:
            return accepted.reason
    return None


def _known_codes(loaded: Loaded) -> None:
    problems: list[Problem] = [
        loaded.document.problem(
            ("accepted", str(n), "finding"), "there is no such finding", accepted.finding, ", ".join(RULES)
        )
        for n, accepted in enumerate(loaded.model.accepted)
        if accepted.finding not in RULES
    ]
    if problems:
        raise BadInput(problems)
