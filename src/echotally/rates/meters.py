"""The fixed list of meters: what each counts, and which ways to bill can produce it."""

from __future__ import annotations

from msgspec import Struct

BILLS = ("runs", "active", "allocated", "reserved", "nodes")


class Meter(Struct, frozen=True):
    """A quantity a plan bills. ``bills`` names the kinds of plan that can produce it."""

    name: str
    unit: str
    meaning: str
    bills: tuple[str, ...] = BILLS
    sources: tuple[str, ...] = ()


_LIST = [
    Meter("calls", "calls", "attempts that started"),
    Meter("gb_seconds", "GB-s", "billed time x memory", ("runs", "active")),
    Meter("vcpu_seconds", "vCPU-s", "billed time x vCPUs", ("runs", "active")),
    Meter("instance_hours", "h", "instance lives", ("allocated",)),
    Meter("idle_gb_seconds", "GB-s", "floor instances without a call x memory", ("runs", "active")),
    Meter("idle_vcpu_seconds", "vCPU-s", "floor instances without a call x vCPUs", ("runs", "active")),
    Meter("allocated_gb_seconds", "GB-s", "instance lives x memory", ("allocated",)),
    Meter("allocated_vcpu_seconds", "vCPU-s", "instance lives x vCPUs", ("allocated",)),
    Meter(
        "reserved_hours",
        "h",
        "reserved instances x hours, less the share of other applications",
        ("reserved",),
    ),
    Meter("node_hours", "h", "nodes while up", ("nodes",)),
    Meter("cluster_hours", "h", "hours of the month", ("nodes",)),
    Meter("queue_operations", "operations", "sends, receives, deletes and idle polls", BILLS, ("queues",)),
    Meter("topic_publishes", "events", "events published", BILLS, ("topics",)),
    Meter("stream_partition_hours", "h", "partitions x hours", BILLS, ("streams",)),
    Meter("stream_writes", "events", "events written to streams", BILLS, ("streams",)),
    Meter("gateway_requests", "requests", "every request, refused ones too", BILLS, ("endpoints",)),
    Meter("schedule_firings", "firings", "firings per trigger, skipped ones too", BILLS, ("schedules",)),
    Meter("storage_operations", "operations", "files landed or put out", BILLS, ("folders",)),
    Meter("log_gb", "GB", "log bytes x started attempts"),
    Meter("egress_gb", "GB", "reply bytes x successful requests", BILLS, ("endpoints",)),
    Meter("storage_gb_months", "GB-months", "packages kept"),
    Meter("flat_months", "months", "monthly flat items"),
]
METERS: dict[str, Meter] = {meter.name: meter for meter in _LIST}
#: Counted in whole numbers, by events and attempts.
COUNTED = (
    "calls",
    "queue_operations",
    "topic_publishes",
    "stream_writes",
    "gateway_requests",
    "schedule_firings",
    "storage_operations",
)
#: As many however long a run takes.
BY_COUNT = (*COUNTED, "log_gb", "egress_gb")
#: Meters that grow with the number of events; the others depend on time, sizes and settings.
BY_VOLUME = ("calls", "gb_seconds", "vcpu_seconds", *BY_COUNT[1:])
#: How the lines of outside services begin, which are no meters of a plan.
OUTSIDE = "outside."
#: The line of hours prepaid, which is no meter either.
COMMITMENT = "commitment"


def meter_of(name: str) -> Meter:
    """What a bill line counts: one of ``METERS``, or the uses of an outside service."""
    if name.startswith(OUTSIDE):
        return Meter(name, "uses", f"uses of {name.removeprefix(OUTSIDE)}, an outside service")
    if name == COMMITMENT:
        return Meter(name, "h", "hours prepaid against a discount")
    return METERS[name]
