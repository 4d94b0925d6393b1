"""The command line: each command parses into one request, calls one function, hands it to one renderer."""
