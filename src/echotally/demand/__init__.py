"""Schedules, shapes, traces: what the outside world does in the month, before any function runs."""
