"""Packages of desks: written, read with every suspicion, looked at, and taken in."""
