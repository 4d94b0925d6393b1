"""A real program tried on this machine, and what it says for the model: run times, CPU, memory, replies, each with its interval.

Why it exists: who has no logs yet can still measure. ``bench`` is a small program of its own that starts others, times them and
ends them; ``bench_client`` speaks with it; ``trying`` and ``requesting`` repeat until figures are narrow; ``keys`` turns rows into
the model's keys; ``plans`` says what a run would be billed.
"""
