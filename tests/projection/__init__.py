"""Tests of what is under src/echotally/projection."""
