"""The Checkup view."""
