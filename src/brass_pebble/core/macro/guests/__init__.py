"""Macros that came from somebody else: what of them reaches outside, what they lead to, and what sleeps."""
