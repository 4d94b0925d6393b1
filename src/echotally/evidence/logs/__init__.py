"""Logs of runs and spans: read, columns found, one table of attempts."""
