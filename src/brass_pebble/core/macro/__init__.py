"""The macro language: text to steps (`reader`), steps to a timetable (`steps`, `program`)."""

from .program import Macro, Program, chord_program
from .reader import read_macro

__all__ = ["Macro", "Program", "chord_program", "read_macro"]
