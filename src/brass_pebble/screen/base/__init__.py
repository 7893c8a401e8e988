"""What all views share: the engine’s state, sheets, keys, colours."""
