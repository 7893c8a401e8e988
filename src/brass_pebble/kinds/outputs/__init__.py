"""Outputs: one file for each kind.  Each offers what `base.Output` describes."""
