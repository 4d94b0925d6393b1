"""A projection as tables, charts, JSON, exports and the report."""
