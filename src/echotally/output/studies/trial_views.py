"""Drains and load trials as tables, data and charts."""

from __future__ import annotations

import json
import math
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from echotally.engine.sketch import Waits
from echotally.errors import safe
from echotally.model.units import duration_text
from echotally.output.base.charts import ended, new_figure, picture, short, source_of, style, titled
from echotally.output.base.terminal import Column, count, money, rendered, seconds, share, shown_in, table
from echotally.output.projection.projection_json import amount_text
from echotally.studies.drain import Drain, DrainRow
from echotally.studies.load_trial import LoadRow, LoadTrial

#: Lines of one chart.
_MOST_LINES = 8


def drain_verdict(found: Drain) -> str:
    """Which drain is over first, in a sentence."""
    done = [row for row in found.rows if row.empty_s is not None]
    if not done:
        return f"{found.queue} is not empty by the month's end in any of these ways."
    first = min(done, key=lambda row: (row.empty_s or 0, row.cost))
    return (
        f"{found.queue}: {found.backlog:,} messages are gone soonest on {first.plan} (limit {_limit(first.limit)}, batch {first.batch}): "
        f"after {seconds(first.empty_s)} s, for {first.cost:,.4f} {_currency(found)}."
    )


def _currency(found: Drain | LoadTrial) -> str:
    return next(iter(found.loaded.offers.values())).card.currency


def _limit(limit: int | None) -> str:
    return "none" if limit is None else f"{limit:,}"


def drain_text(found: Drain, width: int | None = None, colour: bool | None = None) -> str:
    """The verdict, then a row a plan, limit and batch size."""
    shown_in(_currency(found))
    columns = [
        Column("plan", False),
        Column("limit"),
        Column("batch"),
        Column("empty after s"),
        Column("99 % handled after s", rank=2),
        Column("oldest waited s"),
        Column("messages/s", rank=1),
        Column("expired", rank=2),
        Column("dead letters", rank=2),
        Column("peak inst."),
        Column("first start s", rank=4),
        Column("last start s", rank=3),
        Column("cost", rank=1),
    ]
    if found.within_ns is not None:
        columns.append(Column(f"clears in {duration_text(found.within_ns)}"))
    rows = [_drain_cells(row, found.within_ns is not None) for row in found.rows]
    parts: list[RenderableType] = [Text(safe(drain_verdict(found)), style="bold"), Text("")]
    parts.append(
        table(
            f"Draining {safe(found.queue)} by {safe(found.function)} ({_currency(found)})", columns, rows, width=width
        )
    )
    if found.reasons:
        why = [Column("plan", False), Column("why not", False, True)]
        parts.append(table("Cannot be used", why, [[name, text] for name, text in found.reasons]))
    parts.append(
        Text(
            "All other demand is stopped while it drains; cost is what the real month costs more with it, allowances and tiers as they are used there.",
            style="dim",
        )
    )
    return rendered(parts, width, colour)


def _drain_cells(row: DrainRow, clears: bool) -> list[str]:
    starts = row.starts_s
    return [
        row.plan,
        _limit(row.limit),
        count(row.batch),
        seconds(row.empty_s),
        seconds(row.most_s),
        seconds(row.oldest_s),
        seconds(row.rate_per_s),
        count(row.expired),
        count(row.dead_lettered),
        count(row.peak_instances),
        seconds(starts[0] if starts else None),
        seconds(starts[-1] if starts else None),
        f"{row.cost:,.6f}",
        *([count(row.clears)] if clears else []),
    ]


def drain_json(found: Drain) -> str:
    """The drains as data (schema ``echotally-drain/1``)."""
    rows = [
        {
            "plan": row.plan,
            "limit": row.limit,
            "batch": row.batch,
            "empty_s": row.empty_s,
            "handled_99_s": row.most_s,
            "oldest_s": row.oldest_s,
            "rate_per_s": row.rate_per_s,
            "handled": row.handled,
            "expired": row.expired,
            "dead_lettered": row.dead_lettered,
            "peak_instances": row.peak_instances,
            "starts_s": list(row.starts_s),
            "instances": [{"from_s": at, "count": n} for at, n in row.instances],
            "ready": [{"from_s": at, "count": n} for at, n in row.ready],
            "left": [{"from_s": at, "count": n} for at, n in row.left],
            "cost": amount_text(row.cost),
            "clears": row.clears,
        }
        for row in found.rows
    ]
    reasons = [{"plan": name, "text": text} for name, text in found.reasons]
    data = {
        "schema": "echotally-drain/1",
        "queue": found.queue,
        "backlog": found.backlog,
        "rows": rows,
        "infeasible": reasons,
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def drain_chart(found: Drain, form: str) -> bytes:
    """Messages not handled yet, and instances over time until the last is gone: a line a drain, thin while they start, thick when
    ready, a mark where the queue is empty, and after it those that have yet to go.
    """
    figure, (above, below) = new_figure(2, (2, 3))
    ends = [row.instances[-1][0] for row in found.rows if row.instances] + [row.empty_s or 0.0 for row in found.rows]
    longest = 1.03 * max(ends, default=1.0) or 1.0
    for n, row in enumerate(_told_apart(found)):
        looks = style(n)
        name = f"{row.plan}, limit {_limit(row.limit)}, batch {row.batch}"
        line = {"color": looks["color"], "linestyle": looks["linestyle"]}
        for panel, changes, wide, label in (
            (above, row.left, 1.8, None),
            (below, row.instances, 0.9, None),
            (below, row.ready, 2.2, name),
        ):
            times, counts = [at for at, _ in changes], [k for _, k in changes]
            last = counts[-1] if counts else 0
            panel.step([*times, longest], [*counts, last], where="post", label=label, linewidth=wide, **line)
        if row.empty_s is not None:
            there = [k for at, k in row.instances if at <= row.empty_s]
            for panel, y in ((above, 0), (below, there[-1] if there else 0)):
                panel.plot(
                    [row.empty_s], [y], marker=looks["marker"], color=looks["color"], markersize=9, clip_on=False
                )
    above.set_ylabel("messages\nnot handled")
    below.set_ylabel(f"instances of {short(found.function, 28)}")
    below.set_xlabel("time from the start of the drain (s)")
    for panel in (above, below):
        panel.set_xlim(0, longest)
        panel.set_ylim(bottom=0)
    # Room above the lines for their names.
    below.set_ylim(top=(1.12 + 0.08 * math.ceil(len(_told_apart(found)) / 2)) * below.get_ylim()[1])
    below.legend(frameon=False, ncols=2, loc="upper right")
    titled(
        above,
        drain_verdict(found),
        "Instances, thin: those that start too, thick: those that are ready. The mark: the queue is empty, what is left has yet to go.",
    )
    return picture(figure, form, source_of(found.loaded.model))


def _told_apart(found: Drain) -> list[DrainRow]:
    """As many drains as lines can be told apart: all of a few, of many the soonest of each plan."""
    if len(found.rows) <= _MOST_LINES:
        return list(found.rows)
    soonest: dict[str, DrainRow] = {}
    for row in sorted(found.rows, key=lambda r: (r.empty_s is None, r.empty_s or 0.0, r.cost)):
        soonest.setdefault(row.plan, row)
    return [row for row in found.rows if row in soonest.values()][:_MOST_LINES]


#: A refused client asks again after a millisecond, so a trial can be over before the first cold start is.
_USED_UP = "refusals used up --calls within a cold start"


def load_verdict(found: LoadTrial) -> str:
    """The most that was reached, and the limit that is enough."""
    best = max(found.rows, key=lambda row: row.calls_per_s)
    reached = (
        f"answers at most {best.calls_per_s:,.1f} calls a second "
        f"({best.clients:,} clients, limit {_limit(best.limit)}, p95 {_ms(best.latency.p95)} ms)."
    )
    text = f"{found.function} on {found.plan} "
    text += reached if best.calls_per_s else f"answered nothing: {_USED_UP}."
    text += f" A limit above {found.enough:,} brings nothing more." if found.enough else ""
    bound = list(dict.fromkeys(row.bound for row in found.rows if row.bound))
    text += f" What binds: {'; '.join(bound)}." if bound else ""
    storm = [row for row in found.rows if row.refused > row.calls / 2]
    if storm and found.pause_ns <= 1_000_000:
        said = f" In {len(storm)} of {len(found.rows)} rows refused clients that ask again at once (after 1 ms) made most of the calls"
        text += f"{said}: --pause '1 s' has them wait."
    return text


def _ms(value_s: float | None) -> str:
    return "–" if value_s is None else f"{value_s * 1e3:,.1f}"


_LOAD_COLUMNS = [
    Column("limit"),
    Column("clients"),
    Column("calls", rank=3),
    Column("calls/s"),
    Column("refused %"),
    Column("mean ms", rank=2),
    Column("p50 ms", rank=1),
    Column("p95 ms"),
    Column("p99 ms", rank=1),
    Column("max ms", rank=3),
    Column("peak inst."),
    Column("mean calls", rank=4),
    Column("cold %", rank=2),
    Column("steady after s", rank=3),
    Column("cost/million", rank=2),
    Column("more a month", rank=3),
    Column("", False),
]


def _load_row(r: LoadRow) -> list[str]:
    return [
        _limit(r.limit),
        count(r.clients),
        count(r.calls),
        f"{r.calls_per_s:,.2f}",
        share(r.refused_share),
        _ms(r.latency_mean_s),
        _ms(r.latency.p50),
        _ms(r.latency.p95),
        _ms(r.latency.p99),
        _ms(r.latency.max),
        count(r.instances.peak),
        f"{r.concurrency.mean:,.2f}",
        "–" if r.cold_share is None else share(r.cold_share),
        seconds(r.steady_s),
        "–" if r.cost_per_million is None else money(r.cost_per_million),
        "–" if r.month_cost_per_million is None else money(r.month_cost_per_million),
        "knee" if r.knee else "",
    ]


def load_text(found: LoadTrial, width: int | None = None, colour: bool | None = None) -> str:
    """The verdict, then a row a pair of clients and limit; the knee is marked."""
    shown_in(_currency(found))
    rows = [_load_row(row) for row in found.rows]
    marks = ["bold" if r.knee else "" for r in found.rows]
    parts: list[RenderableType] = [Text(safe(load_verdict(found)), style="bold"), Text("")]
    parts.append(
        table(f"{safe(found.function)} alone on {found.plan} ({_currency(found)})", _LOAD_COLUMNS, rows, marks, width)
    )
    if any(row.refused and not row.calls_per_s for row in found.rows) and any(row.calls_per_s for row in found.rows):
        parts.append(Text(f"Where nothing was answered, {_USED_UP}."))
    parts.append(
        Text(
            "Latency is from asking to the answer, of answered calls. knee: more clients bring little but waiting. cost/million: without"
            " allowances; more a month: what a million answers more cost in this model's month, its allowances and tiers as they are used there.",
            style="dim",
        )
    )
    return rendered(parts, width, colour)


def _latency(row: LoadRow) -> dict[str, Any]:
    late: Waits = row.latency
    values = {"mean": row.latency_mean_s, "p50": late.p50, "p95": late.p95, "p99": late.p99, "max": late.max}
    return {name: None if value is None else value * 1e3 for name, value in values.items()}


def load_json(found: LoadTrial) -> str:
    """The trials as data (schema ``echotally-load/1``)."""
    rows = [
        {
            "clients": r.clients,
            "limit": r.limit,
            "calls": r.calls,
            "seconds": r.seconds,
            "calls_per_s": r.calls_per_s,
            "refused": r.refused,
            "refused_share": r.refused_share,
            "steady_s": r.steady_s,
            "bound_by": r.bound or None,
            "latency_ms": _latency(r),
            "cold_share": r.cold_share,
            "instances": {"mean": r.instances.mean, "peak": r.instances.peak},
            "concurrency": {"mean": r.concurrency.mean, "peak": r.concurrency.peak},
            "cost_per_million": None if r.cost_per_million is None else amount_text(r.cost_per_million),
            "month_cost_per_million": None
            if r.month_cost_per_million is None
            else amount_text(r.month_cost_per_million),
            "knee": r.knee,
        }
        for r in found.rows
    ]
    data = {
        "schema": "echotally-load/1",
        "plan": found.plan,
        "function": found.function,
        "rows": rows,
        "enough": found.enough,
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


def load_chart(found: LoadTrial, form: str) -> bytes:
    """Throughput and p95 latency against clients, a line a limit."""
    figure, panels = new_figure(2, (3, 2))
    for n, limit in enumerate(dict.fromkeys(row.limit for row in found.rows)):
        rows = [row for row in found.rows if row.limit == limit]
        clients = [row.clients for row in rows]
        panels[0].plot(clients, [row.calls_per_s for row in rows], **style(n))
        panels[1].plot(clients, [None if r.latency.p95 is None else r.latency.p95 * 1e3 for r in rows], **style(n))
        for row in rows:
            if row.knee:
                panels[0].annotate(
                    "knee", (row.clients, row.calls_per_s), (0, -16), textcoords="offset points", ha="center"
                )
    panels[0].set_ylabel("answers a second")
    panels[1].set_ylabel("latency p95 (ms)")
    panels[1].set_xlabel("clients that ask, wait for the answer and ask again")
    for panel in panels:
        panel.set_ylim(bottom=0)
    if max(r.clients for r in found.rows) >= 8 * min(r.clients for r in found.rows):
        panels[1].set_xscale("log")
        places = list(dict.fromkeys(r.clients for r in found.rows))
        panels[1].set_xticks(places, [f"{n:,}" for n in places])
        panels[1].minorticks_off()
    last = [(row.calls_per_s, f"limit {_limit(row.limit)}", n) for n, row in enumerate(_last_of_each(found))]
    if len(last) > 1:
        ended(panels[0], [(y, text, style(n)["color"]) for y, text, n in last])
    titled(
        panels[0],
        load_verdict(found),
        f"{found.function} alone on {found.plan}; the knee: more clients bring little but waiting",
    )
    return picture(figure, form, source_of(found.loaded.model))


def _last_of_each(found: LoadTrial) -> list[LoadRow]:
    """The row with the most clients of each limit, where its line ends."""
    return [
        max((row for row in found.rows if row.limit == limit), key=lambda row: row.clients)
        for limit in dict.fromkeys(row.limit for row in found.rows)
    ]
