"""The values that macros keep."""
