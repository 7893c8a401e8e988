"""The Labels view."""
