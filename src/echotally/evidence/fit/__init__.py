"""From measured runs and trials to the values of a model."""
