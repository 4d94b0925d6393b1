"""The simulation: compiled kernels that play every event of the month, and what they measured."""
