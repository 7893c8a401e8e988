"""The macro language: text to steps (`reader`), steps to a timetable (`steps`, `program`), and to text (`writer`)."""

from .reader import Draft, link, parse, read_macro
from .timetable import Macro, Program, chord_program
from .writer import format_macro

__all__ = ["Draft", "Macro", "Program", "chord_program", "format_macro", "link", "parse", "read_macro"]
