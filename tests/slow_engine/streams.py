"""Streams: records that outlive their retention."""

from __future__ import annotations


class Streams:
    """A part of ``Simulation``."""

    def expire_lane(self, t, lane):
        retention = self.model.streams[t.source[8:]].retention
        while lane.waiting and lane.waiting[0].at + retention <= self.now:
            e = lane.waiting.pop(0)
            lane.open.remove(e)
            t.unit.events["expired"] += 1
        for call in [c for c in t.unit.line if c.trigger is t and c.lane is lane]:
            for e in [e for e in call.events if e.at + retention <= self.now]:
                call.events.remove(e)
                lane.open.remove(e)
                t.unit.events["expired"] += 1
            if not call.events:
                t.unit.line.remove(call)
                lane.in_flight -= 1
                lane.failing -= 1
