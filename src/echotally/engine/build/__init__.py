"""Builds the world of a simulation: a model, its month, and the plan each function is on, as arrays.

A file a kind of record: ``units``, ``sources`` (triggers, partitions and edges too), ``taps``, ``accounts`` (instances and nodes
too); ``world`` puts them together. What they hand out to each other (random streams, lists, samples) is in ``shared``.
"""

from echotally.engine.build.shared import Unit, stream_seed
from echotally.engine.build.world import Built, Site, build, link_free

__all__ = ["Built", "Site", "Unit", "build", "link_free", "stream_seed"]
