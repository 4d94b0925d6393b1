"""Bills: read, written in FOCUS columns, reconciled with a projection."""
