"""The studies' answers as tables and charts."""
