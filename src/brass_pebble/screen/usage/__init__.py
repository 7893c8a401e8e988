"""The Usage view."""
