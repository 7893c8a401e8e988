"""Grammars of the macro language for text editors."""
