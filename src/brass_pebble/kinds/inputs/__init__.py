"""Inputs: one file for each kind.  Each offers what `base.Input` describes."""
