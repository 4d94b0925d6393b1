"""A rate card that explains a bill: unit prices, tiers and allowances by meter, and the kind of plan that comes closest.

How a plan scales, and where its limits lie, stands on no bill: the closest kind is taken, and what was taken is marked as such.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from decimal import Decimal
from itertools import product

import numpy as np
from msgspec import Struct, field

from echotally.evidence.survey.bills import Billed, Priced
from echotally.evidence.survey.facts import Unknown, short
from echotally.evidence.survey.tables import Sampled, Sums, Unit
from echotally.rates.meters import METERS

#: Made-up prices of a plausible size, where no bill says any.
_PLACEHOLDERS = {"calls": ("0.20", 1_000_000), "gb_seconds": ("0.000016", 1)}
#: Billed time is rounded up to one of these, ms.
_STEPS = (1, 10, 50, 100, 500, 1_000)
_SIZES = (128, 256, 512, 1_024, 2_048, 4_096, 8_192, 16_384)


class Card(Struct):
    """A plan as found: its full name, its kind, lines of TOML by table, and what could not be told."""

    name: str
    plan: str
    bills: str
    currency: str
    lines: list[str] = field(default_factory=list)
    unknowns: list[Unknown] = field(default_factory=list)
    prices: dict[str, Decimal] = field(default_factory=dict)
    placeholder: bool = False

    @property
    def full(self) -> str:
        """The plan as the model names it."""
        return f"{self.name}.{self.plan}"

    def text(self) -> str:
        """The card's file."""
        return "\n".join(self.lines) + "\n"


class Seen(Struct, frozen=True):
    """What the log says that a card needs: sums and samples by unit, and limits it was seen to meet."""

    sums: Mapping[Unit, Sums]
    samples: Mapping[Unit, Sampled]
    keep_alive_s: tuple[float, float] | None
    #: Whether that is from counts of cold starts, and so rough.
    keep_alive_rough: bool
    concurrency: int | None
    cold_ms: Mapping[Unit, float]


def card_of(billed: Billed | None, seen: Seen, poll_wait_s: float | None = None) -> Card:
    """The card that explains the bill; without a bill one with placeholders for prices."""
    name, plan = _names(billed)
    kind = _kind(billed, seen)
    currency = billed.currency if billed is not None and billed.prices else "EUR"
    card = Card(name, plan, kind, currency, placeholder=billed is None or not billed.prices)
    head = card.lines
    head.append("# Made by `echotally survey`. What a comment calls a guess is not on any bill.")
    if card.placeholder:
        head.append("# No bill was given: the prices are PLACEHOLDERS, and no amount made with them means anything.")
    head += ['schema = "echotally-rates/1"', "", "[card]", f'name = "{name}"']
    if billed is not None and billed.provider:
        head.append(f'provider = "{_plain(billed.provider)}"')
    if billed is not None and billed.region:
        head.append(f'region = "{_plain(billed.region)}"')
    head += [f'currency = "{currency}"', "", f"[plans.{plan}]"]
    head.append(f'title = "{"placeholder prices" if card.placeholder else "as billed"}"')
    head.append(f'bills = "{kind}"' + _remark(_why_kind(kind, billed)))
    _settings(card, billed, seen, poll_wait_s)
    _prices(card, billed)
    _allowances(card, billed)
    return card


def _plain(text: str) -> str:
    return re.sub(r'["\\\x00-\x1f]', "", text)[:100]


def _remark(text: str) -> str:
    return f"  # {text}" if text else ""


def _names(billed: Billed | None) -> tuple[str, str]:
    """The card's and the plan's name: the bill's own where it names a plan, else the provider's."""
    if billed is not None and len(billed.plans) == 1:
        (full,) = billed.plans
        card, _, plan = full.partition(".")
        if re.fullmatch(r"[A-Za-z0-9_-]+", card) and re.fullmatch(r"[A-Za-z0-9_-]+", plan):
            return card, plan
    provider = re.sub(r"[^A-Za-z0-9]+", "-", billed.provider if billed else "").strip("-").lower()[:40]
    return provider or "unpriced", "as-billed" if billed is not None and billed.prices else "placeholder"


def _kind(billed: Billed | None, seen: Seen) -> str:
    if billed is None:
        return "runs"
    have = set(billed.prices)
    if have & {"reserved_hours"}:
        return "allocated" if have & {"allocated_gb_seconds"} else "runs"
    if have & {"allocated_gb_seconds", "allocated_vcpu_seconds", "instance_hours"}:
        return "allocated"
    gb_s = float(sum((n for (m, f, _), n in billed.quantity.items() if m == "gb_seconds" and f), Decimal(0)))
    ran = sum(s.gb_s for s in seen.sums.values())
    # Time with at least one call is less than the sum of all calls only where they overlap in one instance.
    return "active" if gb_s and ran and gb_s < 0.85 * ran else "runs"


def _why_kind(kind: str, billed: Billed | None) -> str:
    if billed is None:
        return "a guess"
    if set(billed.prices) & {"reserved_hours", "node_hours", "cluster_hours"}:
        return "a guess: the bill has hours of machines, which this kind does not; the closest that could be made"
    if kind == "active":
        return "a guess: less GB-seconds are billed than all runs together took"
    return "from the bill's meters"


def _settings(card: Card, billed: Billed | None, seen: Seen, poll_wait_s: float | None) -> None:
    add = card.lines.append
    sizes = sorted({round(s.memory) for s in seen.sums.values() if s.memory})
    if all(size % 64 == 0 for size in sizes):
        add('memory = { from = "64 MB", to = "16 GB", step = "64 MB" }  # a guess; sizes seen: ' + _listed(sizes))
    else:
        add(f"memory = {{ choices = [{', '.join(_mb(n) for n in sorted({*sizes, *_SIZES}))}] }}  # a guess")
    add(f"vcpu_per_gb = {_vcpu(billed)}")
    step, least, cold, why = _rounding(card.bills, billed, seen)
    add(f'rounding = {{ time = "{step} ms", at_least = "{least} ms" }}{_remark(why)}')
    add(f"cold_start_billed = {'true' if cold else 'false'}{_remark(why)}")
    if seen.keep_alive_s is not None:
        low, high = seen.keep_alive_s
        said = f"idle {short(low)} s stayed warm, {short(high)} s did not"
        if seen.keep_alive_rough:
            said = f"a guess, rough: counts of cold starts by the hour fit {short(low)} to {short(high)} s"
        add(f'keep_alive = "{_nice_s(low, high)}"  # {said}')
    else:
        add('keep_alive = "5 min"  # a guess')
        how = "a log with a flag for cold starts, over hours in which a function is rarely called"
        card.unknowns.append(Unknown("how long an idle instance is kept", "5 min", how, "", 0.02))
    if seen.concurrency is not None:
        add(f"concurrency_limit = {seen.concurrency}  # attempts were throttled at this many calls in flight")
    if poll_wait_s is not None:
        if math.isinf(poll_wait_s):
            add("idle_readers = 0  # the bill has no operations beyond sends, receives and deletes")
        else:
            add(
                f'poll_wait = "{short(poll_wait_s)} s"  # from the operations billed beyond sends, receives and deletes'
            )
    card.unknowns.append(
        Unknown(
            "how the plan adds instances, and its limits",
            "an instance for each call that finds none, without limit",
            "the plan's documentation; a log of a busy hour with throttled attempts",
            "",
            0.05,
        )
    )


def _listed(sizes: list[int]) -> str:
    return ", ".join(f"{n} MB" for n in sizes) or "none"


def _mb(n: int) -> str:
    return f'"{n} MB"'


def _vcpu(billed: Billed | None) -> str:
    """vCPUs for each GB: what the bill's two kinds of second say, else a guess."""
    if billed is not None:
        for cpu, gb in (("vcpu_seconds", "gb_seconds"), ("allocated_vcpu_seconds", "allocated_gb_seconds")):
            have = [
                sum((n for (m, _, _), n in billed.quantity.items() if m == meter), Decimal(0)) for meter in (cpu, gb)
            ]
            if all(have):
                return f"{short(float(have[0] / have[1]))}  # vCPU-seconds over GB-seconds on the bill"
    return "0.5  # a guess"


def _rounding(bills: str, billed: Billed | None, seen: Seen) -> tuple[int, int, bool, str]:
    """Step and least of billed time, ms, and whether cold starts are billed; from a log's billed times or the bill's GB-seconds."""
    told = _rounding_told(seen) if bills == "runs" else None
    if told is not None:
        return told
    if bills != "runs" or billed is None:
        return 1, 0, False, "a guess"
    best: tuple[float, int, bool] | None = None
    for step in _STEPS:
        for cold in (False, True):
            off = _off(billed, seen, step, cold)
            if off is not None and (best is None or off < best[0] - 1e-4):
                best = off, step, cold
    if best is None or best[0] > 0.05:
        return 1, 0, False, "a guess"
    return best[1], 0, best[2], f"GB-seconds of the log so rounded are within {best[0]:.1%} of the bill's"


def _rounding_told(seen: Seen) -> tuple[int, int, bool, str] | None:
    """The rounding that makes each attempt's billed time of its run; None where the log has none, or no rule makes them."""
    rows = [
        (s.run[k], np.where(s.cold, s.cold_ms, 0.0)[k], s.billed[k])
        for s in seen.samples.values()
        for k in [(s.billed > 0) & s.ran]
        if k.any()
    ]
    if not rows:
        return None
    run, cold, billed = (np.concatenate(column) for column in zip(*rows, strict=True))
    least = float(billed.min())
    # A least that many short attempts share is a rule, not the shortest run.
    least = (
        least if np.mean(billed == least) > 0.01 and float((run + cold)[billed == least].min()) < 0.9 * least else 0.0
    )
    best = (0.0, 1, False, 0.0)
    # The plainest first: a step alone, if it explains as much.
    for at_least, step, with_cold in product((0.0, least) if least else (0.0,), _STEPS, (False, True)):
        time = np.maximum(np.ceil((run + (cold if with_cold else 0.0)) / step - 1e-6) * step, at_least)
        right = float(np.mean(np.abs(time - billed) <= 1e-6 * billed + 1e-3))
        if right > best[0] + 1e-9:
            best = right, step, with_cold, at_least
    if best[0] < 0.95:
        return None
    return best[1], round(best[3]), best[2], f"the billed times of {best[0]:.1%} of {len(run):,} attempts"


def _off(billed: Billed, seen: Seen, step: int, cold: bool) -> float | None:
    """How far GB-seconds of the log, rounded so, lie from the bill's: the mean over functions, each as a share of its own."""
    apart, weight = 0.0, 0.0
    for (function, environment), sums in seen.sums.items():
        quantity = float(billed.of("gb_seconds", function, environment))
        sample = seen.samples.get((function, environment))
        if not quantity or sample is None or not sums.memory:
            continue
        ran = sample.ran
        starts = np.where(sample.cold_ms > 0, sample.cold_ms, seen.cold_ms.get((function, environment), 0.0))
        time = sample.run[ran] + (np.where(sample.cold[ran], starts[ran], 0.0) if cold else 0.0)
        mean = float(np.mean(np.ceil(time / step - 1e-9) * step)) if len(time) else 0.0
        ours = mean / 1_000 * sums.started * sums.memory / 1_024
        # Few attempts say little.
        apart += min(sums.started, 1_000) * min(1.0, abs(ours / quantity - 1))
        weight += min(sums.started, 1_000)
    return apart / weight if weight else None


def _nice_s(low: float, high: float) -> str:
    """A plausible time between two bounds, s."""
    for value in (60, 120, 180, 240, 300, 420, 480, 600, 720, 900, 1_200, 1_800, 3_600, 30, 15, 10, 5):
        if low <= value < high:
            return f"{value} s" if value % 60 else f"{value // 60} min"
    return f"{short(max(1.0, (low + high) / 2))} s"


def _prices(card: Card, billed: Billed | None) -> None:
    card.lines += ["", f"[plans.{card.plan}.price]"]
    if billed is None or not billed.prices:
        for meter, (unit, per) in _PLACEHOLDERS.items():
            scale = f"per = {per:_}, " if per > 1 else ""
            card.lines.append(f'{meter} = {{ {scale}unit = "{unit}" }}  # a placeholder')
            card.prices[meter] = Decimal(unit) / per
        return
    fits = [meter for meter in METERS if meter in billed.prices and card.bills in METERS[meter].bills]
    for meter in fits:
        tiers = _tiers(billed.prices[meter])
        card.prices[meter] = tiers[0][1]
        card.lines.append(f"{meter} = {_price(tiers)}{_remark(_rests_on(billed.prices[meter]))}")
    if not fits:
        card.lines.append('calls = { unit = "0" }  # no row of the bill is of a meter of this kind of plan')
    if billed.monthly:
        card.lines += ["", f"[plans.{card.plan}.flat]"]
        for name, amount in sorted(billed.monthly.items()):
            card.lines.append(f'{name.replace("_", "-")} = "{_digits(amount)}"')


def _tiers(prices: Mapping[Decimal, Priced]) -> list[tuple[Decimal | None, Decimal]]:
    """(up to how many billable units, unit price), the last without end. Rows at no price are an allowance, not a tier."""
    paid = [p for price, p in prices.items() if price > 0] or list(prices.values())
    numbered = all(re.search(r"\d+$", p.order) for p in paid)
    # By the number of their price where it has one; else the dearer first, as graduated prices go.
    paid.sort(key=lambda p: (int(re.search(r"\d+$", p.order).group()), 0) if numbered else (-p.unit, 0))  # type: ignore[union-attr]
    found: list[tuple[Decimal | None, Decimal]] = []
    below = Decimal(0)
    for place, priced in enumerate(paid):
        if place == len(paid) - 1:
            found.append((None, priced.unit))
            break
        # A tier is full in every account that has rows of the next.
        after = paid[place + 1].billable
        full = [n for account, n in priced.billable.items() if after.get(account)]
        below += max(full or priced.billable.values(), default=Decimal(0))
        found.append((below, priced.unit))
    return found


def _price(tiers: list[tuple[Decimal | None, Decimal]]) -> str:
    per = 1
    smallest = min((unit for _, unit in tiers if unit), default=Decimal(1))
    if smallest < Decimal("0.0001"):
        per = 1_000_000
    scale = f"per = {per:_}, " if per > 1 else ""
    if len(tiers) == 1:
        return f'{{ {scale}unit = "{_digits(tiers[0][1] * per)}" }}'
    steps = [
        (f"{{ up_to = {round(up_to):_}, " if up_to is not None else "{ ") + f'unit = "{_digits(unit * per)}" }}'
        for up_to, unit in tiers
    ]
    return f"{{ {scale}tiers = [{', '.join(steps)}] }}"


def _digits(number: Decimal) -> str:
    text = f"{number:f}"
    return text.rstrip("0").rstrip(".") or "0" if "." in text else text


def _rests_on(prices: Mapping[Decimal, Priced]) -> str:
    total = sum((n for p in prices.values() for n in p.billable.values()), Decimal(0))
    return f"{short(float(total))} billed"


def allowances_of(billed: Billed) -> dict[str, tuple[Decimal, bool]]:
    """By meter what was used without being paid for in an account, and whether that is all of an allowance."""
    found = {}
    for meter, prices in billed.prices.items():
        free: dict[str, Decimal] = {}
        paid: dict[str, Decimal] = {}
        for price, priced in prices.items():
            for account in {*priced.billable, *priced.consumed}:
                used, due = priced.consumed.get(account, Decimal(0)), priced.billable.get(account, Decimal(0))
                due = due if price > 0 else Decimal(0)
                free[account] = free.get(account, Decimal(0)) + used - due
                paid[account] = paid.get(account, Decimal(0)) + due
        full = [free[account] for account in free if paid[account] > 0]
        most = max(full or free.values(), default=Decimal(0))
        if most > Decimal("0.5") * max(1, len(free)) or (
            most > Decimal("0.01") and METERS[meter].unit not in ("calls", "events")
        ):
            found[meter] = most, bool(full)
    return found


def _allowances(card: Card, billed: Billed | None) -> None:
    if billed is None:
        return
    found = {m: a for m, a in allowances_of(billed).items() if card.bills in METERS[m].bills and round(a[0]) > 0}
    if not found:
        return
    card.lines += ["", f"[plans.{card.plan}.allowance]"]
    for meter, (amount, whole) in found.items():
        said = (
            "used without being paid for" if whole else "a guess: at least so much, since none of it was ever paid for"
        )
        card.lines.append(f"{meter} = {round(amount):_}{_remark(said)}")
        if not whole:
            what = f"the allowance of {meter}, which was never used up"
            card.unknowns.append(Unknown(what, f"what was used, {short(float(amount))}", "the price list", "", 0.01))
