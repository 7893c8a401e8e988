"""Spoken phrases: what can be said, what was said, and whether to believe it.  Pure: no microphone, no recogniser."""
