"""Spoken phrases."""
