"""The glance."""
