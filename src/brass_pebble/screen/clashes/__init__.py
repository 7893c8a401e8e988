"""The Clashes view."""
