"""A slow, plain-Python simulation of docs/rules.md, written from the rules and not from the kernels.

For runs drawn from nothing (constant, but longer with items, payload and company; a full batch may run into its timeout), errors and
poison, whole batches and single events that fail, emits by lot, topics with shares, eager and matched pulling, strict order, payload
limits, arrivals by firings and lumps, even and skewed partitions; per-call, polled and reserved plans and nodes.
Chance comes from the same streams (SplitMix64, seeded by purpose), so that every attempt can be compared, not only sums.
"""

from tests.slow_engine.simulation import Simulation

__all__ = ["Simulation"]
