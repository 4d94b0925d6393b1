"""Where one event's time went: a lane for each place it came to, with bars for waiting, starting and running."""

from __future__ import annotations

from typing import Any

from echotally.output.base.charts import new_figure, picture, titled
from echotally.output.studies.follow_view import follow_verdict, lanes, local_time
from echotally.studies.follow.answer import Copy, Followed
from echotally.studies.follow.moments import clocked

#: More lanes than that are not read.
_MOST = 16
#: What a bar is: colour, hatch (told apart in grey), label.
_BARS = {
    "waits": ("#F6EFA6", "..", "waiting"),
    "pauses": ("#E8E8E8", "", "until it comes again"),
    "cold": ("#56B4E9", "//", "starting cold"),
    "runs": ("#0072B2", "", "running"),
    "failed": ("#D55E00", "xx", "run failed or timed out"),
}


def follow_chart(found: Followed, form: str) -> bytes:
    """The event's way as a picture (``form`` png or svg)."""
    figure, (panel,) = new_figure()
    shown = list(lanes(found.root))[:_MOST]
    span = _span(found, [copy for _, copy, _ in shown])
    unit, scale = _unit(span)
    axis = _Axis(panel, found.root.at, span, scale)
    for row, (_, copy, _) in enumerate(shown):
        for bar in _bars(copy):
            axis.bar(row, *bar)
        axis.throttles(copy, row)
    names = [f"{'   ' * depth}{copy.source}\n{'   ' * depth}{_reader(copy)}" for _, copy, depth in shown]
    panel.set_yticks(range(len(shown)), names)
    # Upside down, the event itself on top; one lane alone would be a bar as high as the page.
    panel.set_ylim(max(len(shown), 3) - 0.4, -0.6)
    panel.set_xlim(-span / scale * 0.01, span / scale * 1.05)
    panel.set_xlabel(f"{unit} since it came, {local_time(found, found.root.at)}")
    titled(panel, "\n".join(follow_verdict(found)[:3]))
    panel.grid(axis="y", visible=False)
    if axis.seen:
        panel.legend(loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=6, frameon=False)
    return picture(figure, form, f"{found.offer.name} · {found.clock.month} · seed {found.seed} · Echo Tally")


def _span(found: Followed, copies: list[Copy]) -> int:
    """What the axis shows, ns: until the last function was done with it; what lies where nobody reads it would hide the rest."""
    read = [copy for copy in copies if copy.function] or copies
    return max(1, max((_last(copy) for copy in read), default=found.root.at) - found.root.at)


class _Axis:
    """Bars on one panel, each kind named in the legend once."""

    def __init__(self, panel: Any, zero: int, span: int, scale: float) -> None:
        self.panel, self.zero, self.span, self.scale = panel, zero, span, scale
        self.seen: set[str] = set()

    def _label(self, name: str) -> str | None:
        if name in self.seen:
            return None
        self.seen.add(name)
        return name

    def bar(self, row: int, what: str, begun: int, ended: int) -> None:
        """A stretch of time, with its length where there is room for it; cut where the axis ends."""
        colour, hatch, name = _BARS[what]
        end = self.zero + round(self.span * 1.03)
        at, length = (begun - self.zero) / self.scale, (min(ended, end) - begun) / self.scale
        # A bar of no length would not be seen.
        length = max(length, self.span / self.scale / 500)
        self.panel.barh(
            row,
            length,
            left=at,
            height=0.5,
            color=colour,
            hatch=hatch,
            edgecolor="#444444",
            linewidth=0.5,
            label=self._label(name),
        )
        length_text = clocked(ended - begun)
        if ended > end or ended - begun > 0.0075 * len(length_text) * self.span:
            # Of one that is cut the words stand above its end, else above its middle.
            cut = ended > end
            place, align = ((end - self.zero) / self.scale, "right") if cut else (at + length / 2, "center")
            arrow = " \N{RIGHTWARDS ARROW}" if cut else ""
            text = f"{name} {length_text}{arrow}" if cut else length_text
            self.panel.text(place, row - 0.28, text, ha=align, va="bottom", fontsize=9)

    def throttles(self, copy: Copy, row: int) -> None:
        """A mark for each attempt that found no room."""
        at = [(each.started - self.zero) / self.scale for each in copy.tries if each.outcome == "throttled"]
        if at:
            self.panel.plot(
                at,
                [row] * len(at),
                "v",
                color="#D55E00",
                markersize=9,
                linestyle="none",
                label=self._label("throttled"),
            )


def _reader(copy: Copy) -> str:
    return f"to {copy.function}" if copy.function else "nobody reads it"


def _last(copy: Copy) -> int:
    return max([copy.ended or copy.came, *(each.ended for each in copy.tries)])


def _unit(span: int) -> tuple[str, float]:
    for unit, scale in (("ms", 1e6), ("s", 1e9), ("min", 6e10), ("hours", 3.6e12)):
        # Up to three hundred of a unit can be read off an axis.
        if span < 300 * scale:
            return unit, scale
    return "days", 8.64e13


def _bars(copy: Copy) -> list[tuple[str, int, int]]:
    found, before = [], copy.came
    for each in copy.tries:
        if each.wait:
            # Between two tries lies a pause that nobody but its own timer can shorten.
            if each.wait.begun > before:
                found.append(("pauses", before, each.wait.begun))
            found.append(("waits", each.wait.begun, each.wait.ended))
        elif each.started > before:
            found.append(("pauses", before, each.started))
        before = each.ended
        # It took no time: it is a mark on the lane and no bar (``throttles``).
        if each.outcome == "throttled":
            continue
        run_at = each.ended if each.run_at is None else each.run_at
        if run_at > each.started:
            found.append(("cold", each.started, run_at))
        if each.run_at is not None:
            # A run that the month cuts off has failed at nothing.
            good = each.good or each.outcome == "still_running"
            found.append(("runs" if good else "failed", each.run_at, each.ended))
    if copy.left:
        found.append(("waits", copy.left.begun, copy.left.ended))
    return found
