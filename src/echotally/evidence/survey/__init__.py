"""From what really happened to an estate that can be played, with its doubt stated."""
