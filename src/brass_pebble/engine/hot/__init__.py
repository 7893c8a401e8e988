"""The way of a press: what reads it, what holds it back for a moment, what sends its effects."""
