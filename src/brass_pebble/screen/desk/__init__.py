"""The Desk view."""
