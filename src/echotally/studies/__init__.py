"""The questions analysts ask of a model: each one call on the same engine."""
