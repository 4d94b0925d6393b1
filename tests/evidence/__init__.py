"""Tests of what is under src/echotally/evidence."""
