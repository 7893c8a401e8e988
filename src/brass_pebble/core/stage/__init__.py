"""Simulated receiving programs."""
