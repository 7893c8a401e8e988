"""Values of macros: what they can be, what can be done with them, how they are kept."""
