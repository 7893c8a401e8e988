"""What can be told of a desk: clashes, free chords, changes, what a control shows."""
