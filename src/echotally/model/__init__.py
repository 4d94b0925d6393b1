"""What the analyst wrote: loading, units, addresses, defaults."""
