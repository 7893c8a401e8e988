"""The Network view."""
