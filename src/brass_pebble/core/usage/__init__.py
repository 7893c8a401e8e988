"""What surfaces were used for: counted as presses come, and what follows from the counts.  Pure."""
