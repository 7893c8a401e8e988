"""The desk: its model, how it is read, what can be told of it."""
