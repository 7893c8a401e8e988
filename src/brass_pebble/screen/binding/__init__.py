"""Giving a gesture of a control another action."""
