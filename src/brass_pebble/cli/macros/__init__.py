"""The parts of the command line that are about macros: their texts, what they ask, what they keep."""
