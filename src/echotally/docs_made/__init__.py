"""What makes the pages of docs/ from the program's own definitions: they cannot drift from it."""
