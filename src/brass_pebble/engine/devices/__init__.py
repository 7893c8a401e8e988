"""Devices: who has which, met, lent, lit; the focus; the network."""
