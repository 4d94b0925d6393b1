"""A model ready to be played, and which plan each function is on when a candidate is projected."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import field
from msgspec.structs import replace

from echotally.demand.month import Known, MonthPlan, plan_month
from echotally.engine.sampling import SAMPLED_FROM, expected_events
from echotally.errors import BadInput, Problem, safe
from echotally.model.estate import Model
from echotally.model.excerpt import Excerpt
from echotally.model.loading import ModelSource, checked, load_as_far_as_possible
from echotally.model.reading import Document
from echotally.naming import no_such
from echotally.rates.card_loading import Cards, Offer, candidates, load_cards
from echotally.rates.outside import hold_currencies
from echotally.showing import Answer


class Loaded(Answer, frozen=True):
    """A model ready to be played: document, month and offers checked as well.

    ``offers`` are the plans that exist in the model's month; ``cards`` all there are, of other months too.
    """

    model: Model
    document: Document
    month: MonthPlan
    offers: dict[str, Offer]
    cards: Cards = field(default_factory=Cards)

    def offer(self, name: str, address: str = "") -> Offer:
        """The plan of this full name; raises ``BadInput`` (at ``address``) where no card has it."""
        if name not in self.offers:
            raise BadInput(no_such("plan on any rate card", address, name, self.offers))
        return self.offers[name]

    def chosen(self, names: Iterable[str], address: str = "") -> list[Offer]:
        """The plans named, or the candidates of the model where none is; raises ``BadInput`` for an unknown one."""
        return [self.offer(name, address) for name in names] or candidates(self.model, self.offers)

    def with_model(self, model: Model) -> Loaded:
        """The same files with another model, its month planned anew."""
        month = plan_month(model, self.document, known=Known(self.model, self.month))
        return Loaded(model, self.document, month, self.offers_in(model), self.cards)

    def expected_events(self, candidate: Offer) -> float:
        """Events expected of the month at all sources together, with unpinned functions on a candidate plan."""
        return expected_events(self.model, self.month, placement_on(self.model, self.offers, candidate))

    def is_large(self, candidate: Offer) -> bool:
        """Whether the month expects so many events with unpinned functions on a candidate plan that it would be sampled."""
        return self.expected_events(candidate) > SAMPLED_FROM

    def there_at_once(self, a_call: int = 1) -> int:
        """Events of backlogs and lumps: they are there at one instant, however fast work is done. Those that are handed to functions
        one by one count as ``a_call`` others.
        """
        backlogs = sum(queue.backlog or 0 for queue in self.model.queues.values()) * len(self.model.environments)
        for tap in self.month.taps:
            its, weight = tap.stretches, 1 if tap.source.kind.traits.batched else a_call
            if not its.are_instants:
                backlogs += weight * int(its.count[(its.start_ns == its.end_ns) & (its.count > 1)].sum())
        return backlogs

    def offers_in(self, model: Model) -> dict[str, Offer]:
        """The plans that exist in the month of a model of the same files."""
        same = model.estate.month == self.model.estate.month or not self.cards.cards
        return self.offers if same else self.cards.offers(model.estate.month)

    def unpinned(self) -> Loaded:
        """The same estate with no function pinned to a plan."""
        functions = {name: f.model_copy(update={"plan": None}) for name, f in self.model.functions.items()}
        model = self.model.model_copy(update={"functions": functions})
        return Loaded(model, self.document, self.month, self.offers, self.cards)

    def changed(self, sets: Iterable[tuple[str, str]]) -> Loaded:
        """The same files with further overrides; none is read again but what the model takes from others (traces, samples).

        Raises ``BadInput`` as ``load`` does.
        """
        return _ready(*checked(self.document.copy(), sets), self)

    def excerpt(self, excerpt: Excerpt, sets: Iterable[tuple[str, str]] = ()) -> Loaded:
        """Some functions and sources of the same files, with overrides of the whole; raises ``BadInput`` as ``load`` does."""
        return _ready(*checked(excerpt.document(), excerpt.sets(sets)), self)


def load(path: ModelSource | Loaded, sets: Iterable[tuple[str, str]] = (), like: Loaded | None = None) -> Loaded:
    """Load and check a model with its cards, schedules and traces; raises ``BadInput`` with every mistake.

    ``path`` is a file, the text of one, its data as a mapping, a ``Model`` that was built, or what was loaded before.

    ``like`` is the same model loaded with other overrides: its cards are not read again where they are the same.
    """
    sets = list(sets)
    if isinstance(path, Loaded):
        if not sets:
            return path
        sets, path = [*path.document.changed_sets(), *sets], _source(path)
    return _ready(*load_as_far_as_possible(path, sets), like)


def all_sets(source: ModelSource | Loaded, sets: Iterable[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
    """The overrides that make of a model's file what ``load`` makes of ``source`` with ``sets``."""
    before = source.document.changed_sets() if isinstance(source, Loaded) else []
    return (*before, *sets)


def _source(loaded: Loaded) -> ModelSource:
    return loaded.document.path if loaded.document.text else loaded.model


def _ready(model: Model | None, document: Document, problems: list[Problem], like: Loaded | None) -> Loaded:
    if model is None:
        raise BadInput(problems)
    month, cards = None, None
    try:
        cards = load_cards(document, model, like.cards if like and _same_cards(like, model, document) else None)
        # Only once the cards are in one currency is there something to hold services against.
        hold_currencies(document, model, cards.cards[0].card.currency)
    except BadInput as error:
        problems += error.problems
    try:
        month = plan_month(model, document, known=Known(like.model, like.month) if like else None)
    except BadInput as error:
        problems += error.problems
    if problems or month is None or cards is None:
        raise BadInput(list(dict.fromkeys(problems)))
    if document.along:
        # What went with something that was taken out is said beside what was read.
        gone = f"taken out with it: {', '.join(map(safe, dict.fromkeys(document.along)))}"
        month = replace(month, notes=(*month.notes, gone))
    month = replace(month, notes=(*month.notes, *cards.notes(model.estate.month)))
    return Loaded(model, document, month, cards.offers(model.estate.month), cards)


def _same_cards(one: Loaded, other: Model, document: Document) -> bool:
    same = one.model.estate.rate_cards == other.estate.rate_cards and one.model.exchange == other.exchange
    return same and one.document.card_sets == document.card_sets


def placement_on(model: Model, offers: dict[str, Offer], candidate: Offer) -> dict[str, Offer]:
    """Each function's plan when ``candidate`` is projected: its own pin, or the candidate."""
    return {name: offers[function.plan] if function.plan else candidate for name, function in model.functions.items()}
