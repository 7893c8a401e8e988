"""This machine: what it needs, and what is wrong with it."""
