"""Microphones and what understands them: sound in, hypotheses out; in a process of its own."""
