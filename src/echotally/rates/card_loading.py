"""Loads the rate cards a model names and picks the plans to compare."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from decimal import Decimal
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from msgspec import Struct

from echotally.errors import BadInput, Problem
from echotally.model.addresses import Address, dotted
from echotally.model.estate import Exchange, Model
from echotally.model.overrides import set_value
from echotally.model.reading import Document, hold_kind, read_document, validate
from echotally.rates.card import Card, Plan, Price, RateCard


class Offer(Struct, frozen=True):
    """One plan of one card, under its full name ``card.plan``."""

    name: str
    card: Card
    plan: Plan


def load_card(path: Path | str, sets: Iterable[tuple[Address, str]] = ()) -> RateCard:
    """The checked rate card of a TOML file; raises ``BadInput`` with every mistake.

    ``sets`` are overrides by address, ("cards", card, key ...), of which those of this card are applied.
    """
    document = read_document(Path(path))
    hold_kind(document, "echotally-rates/1", ("card", "plans"))
    head = document.data.get("card")
    own = head.get("name") if isinstance(head, dict) else None
    for address, value in sets:
        # The card is named by its own head, not by its file, so that overrides survive a renaming.
        if address[1:2] == (own,):
            set_value(document, dotted(address[2:]), value)
    return validate(document, RateCard, {**document.data, "plans": _with_likes(document)})


def _with_likes(document: Document) -> Any:
    """The plans as written, each ``like`` another filled up from it: tables key by key, no chain. Raises ``BadInput``."""
    plans = document.data.get("plans")
    if not isinstance(plans, dict):
        return plans
    problems, found = [], {}
    for name, plan in plans.items():
        like = plan.get("like") if isinstance(plan, dict) else None
        other = plans.get(like) if isinstance(like, str) else None
        if like is None:
            found[name] = plan
            continue
        address = ("plans", name, "like")
        if not isinstance(other, dict):
            near = get_close_matches(str(like), plans, 1)
            hint = "this card has no such plan" + (f"; did you mean {near[0]}?" if near else "")
            problems.append(document.problem(address, hint, like, ", ".join(n for n in plans if n != name)))
        # No chains: one look at the card tells what a plan is.
        elif "like" in other:
            allowed = f'a plan that is written out; {like} is like "{other["like"]}"'
            problems.append(document.problem(address, "a plan like one that is like another", like, allowed))
        else:
            found[name] = _merged(other, plan)
    if problems:
        raise BadInput(problems)
    return found


#: Tables of which one form shuts out another: with the other form they are taken whole.
_FORMS = {"memory": ("choices",), "scaling": ("kind",)}


def _merged(below: dict[str, Any], above: dict[str, Any]) -> dict[str, Any]:
    """A plan filled up from another: of a table in both, each key is the upper's where it has it."""
    return {**below, **{key: _laid_over(key, below.get(key), value) for key, value in above.items()}}


def _laid_over(key: str, under: Any, value: Any) -> Any:
    if not isinstance(value, dict) or not isinstance(under, dict):
        return value
    # A table of another form would keep keys that the new form forbids.
    other = any(name in value and value[name] != under.get(name) for name in _FORMS.get(key, ()))
    other = other or (key == "memory" and "choices" in under and "choices" not in value)
    return value if other else {**under, **value}


class Cards(Struct, frozen=True):
    """The rate cards of a model in the currency they are shown in; of one name there may be several, each from its day on."""

    cards: tuple[RateCard, ...] = ()

    def in_force(self, month: str) -> list[RateCard]:
        """The card of each name that holds on a month's first day: the latest by then, else the earliest (rule 7.65)."""
        first = date.fromisoformat(f"{month}-01")
        return [_on(cards, first) for cards in self._by_name().values()]

    def offers(self, month: str) -> dict[str, Offer]:
        """The plans that exist in a month, by full name, in file order."""
        return {offer.name: offer for card in self.in_force(month) for offer in offers_of(card)}

    def notes(self, month: str) -> list[str]:
        """What an analyst should know of the prices of a month: none held yet, or they change within it."""
        first, found = date.fromisoformat(f"{month}-01"), []
        for name, cards in self._by_name().items():
            now = _on(cards, first).card
            if now.effective is not None and now.effective > first:
                found.append(f"no prices of {name} hold on {first} yet: those from {now.effective} are taken")
            for card in cards:
                day = card.card.effective
                if day is not None and day != now.effective and first < day and f"{day:%Y-%m}" == month:
                    found.append(
                        f"{name} has other prices from {day} on: this month is billed at those of its first day"
                    )
        return found

    def _by_name(self) -> dict[str, list[RateCard]]:
        found: dict[str, list[RateCard]] = {}
        for card in self.cards:
            found.setdefault(card.card.name, []).append(card)
        return found


def offers_of(card: RateCard) -> list[Offer]:
    """The plans of one card, in file order."""
    return [Offer(f"{card.card.name}.{key}", card.card, plan) for key, plan in card.plans.items()]


def _on(cards: list[RateCard], day: date) -> RateCard:
    known = [card for card in cards if (card.card.effective or date.min) <= day]
    # Before the first day of all, the earliest prices are the nearest there are (rule 7.65).
    latest = max(known, key=_since, default=None)
    return latest if latest is not None else min(cards, key=_since)


def _since(card: RateCard) -> date:
    """The day from which a card holds; one that says none has always held."""
    return card.card.effective or date.min


def load_cards(document: Document, model: Model, known: Cards | None = None) -> Cards:
    """Every card the model names, in file order.

    ``known`` are the same cards, read before. Raises ``BadInput`` for mistakes in the cards, two cards of one name and day, mixed
    currencies, and for plans the model names but no card has in its month.
    """
    cards = _read_cards(document, model) if known is None else known
    names = {card.card.name for card in cards.cards}
    for address, _ in document.card_sets:
        if len(address) < 3 or address[1] not in names:
            allowed = ", ".join(f"cards.{name}. and an address in it" for name in sorted(names))
            raise BadInput(Problem("there is no such rate card", dotted(address), "--set", allowed=allowed))
    if problems := _unknown_plans(document, model, cards.offers(model.estate.month)):
        raise BadInput(problems)
    return cards


def _read_cards(document: Document, model: Model) -> Cards:
    found: list[RateCard] = []
    problems: list[Problem] = []
    currencies: dict[str, str] = {}
    for number, name in enumerate(model.estate.rate_cards):
        try:
            card = load_card(document.path.parent / name, document.card_sets)
        except BadInput as error:
            # The mistakes of all cards are told at once.
            problems.extend(error.problems)
            continue
        address = ("estate", "rate_cards", str(number))
        if any(other.card.name == card.card.name and _since(other) == _since(card) for other in found):
            allowed = "one name a card, or cards of one name with different days in effective"
            problems.append(document.problem(address, "two cards have the same name", card.card.name, allowed))
        # Changed as it is read: whatever is told of a price from here on is in one currency.
        card = in_currency(card, model.exchange)
        currencies[card.card.currency] = name
        found.append(card)
    if len(currencies) > 1:
        problems.append(_mixed(document, model, currencies))
    if problems:
        raise BadInput(problems)
    return Cards(tuple(found))


def _mixed(document: Document, model: Model, currencies: dict[str, str]) -> Problem:
    """Cards in several currencies: what is missing so that they become one."""
    found = ", ".join(f"{currency} in {name}" for currency, name in currencies.items())
    exchange = model.exchange
    if exchange is None:
        into, *others = currencies
        rates = ", ".join(f'{other} = "..."' for other in others)
        allowed = f'cards of one currency, or [exchange] with date = {model.estate.month}-01, into = "{into}", rates = {{ {rates} }}'
    else:
        missing = [c for c in currencies if c != exchange.into and c not in exchange.rates]
        lines = ", ".join(f'{currency} = "..."' for currency in missing)
        allowed = (
            f"exchange.rates lacks {', '.join(missing)}: add {lines}, what one unit of it is worth in {exchange.into}"
        )
    return document.problem(("estate", "rate_cards"), "the cards are in several currencies", found, allowed)


def in_currency(card: RateCard, exchange: Exchange | None) -> RateCard:
    """The card with its prices multiplied into the currency of ``exchange``, exactly; as it is without a rate."""
    rate = exchange.rates.get(card.card.currency) if exchange else None
    if exchange is None or rate is None or card.card.currency == exchange.into:
        return card
    plans = {
        name: plan.model_copy(
            update={
                "price": {meter: _times(price, rate) for meter, price in plan.price.items()},
                "commitment": plan.commitment
                and plan.commitment.model_copy(update={"per_hour": plan.commitment.per_hour * rate}),
                "flat": {name: item.model_copy(update={"unit": item.unit * rate}) for name, item in plan.flat.items()},
            }
        )
        for name, plan in card.plans.items()
    }
    head = card.card.model_copy(update={"currency": exchange.into})
    return card.model_copy(update={"card": head, "plans": plans})


def _times(price: Price, rate: Decimal) -> Price:
    tiers = tuple(tier.model_copy(update={"unit": tier.unit * rate}) for tier in price.tiers or ())
    return price.model_copy(update={"unit": None if price.unit is None else price.unit * rate, "tiers": tiers or None})


def _unknown_plans(document: Document, model: Model, offers: dict[str, Offer]) -> list[Problem]:
    wanted = [(("estate", "plans", str(n)), name) for n, name in enumerate(model.estate.plans or ())]
    wanted += [
        (("functions", name, "plan"), function.plan) for name, function in model.functions.items() if function.plan
    ]
    problems = []
    for address, name in wanted:
        if name not in offers:
            near = get_close_matches(name, offers, 1)
            hint = "no rate card has this plan" + (f"; did you mean {near[0]}?" if near else "")
            problems.append(document.problem(address, hint, name, ", ".join(offers)))
    return problems


def candidates(model: Model, offers: dict[str, Offer]) -> list[Offer]:
    """The plans to compare: those the model lists, or every plan of the cards."""
    return [offers[name] for name in model.estate.plans or offers]
