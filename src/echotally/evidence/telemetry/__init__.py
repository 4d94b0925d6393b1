"""Metrics and firings of a real month: traces out of counters, firings laid beside a schedule."""
