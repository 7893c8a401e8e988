"""One widget a file; each owns its drawing, its keys and its messages."""
