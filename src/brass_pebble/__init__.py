"""Brass Pebble: spare keyboards, pedals and pads as command surfaces for timed keystroke macros."""

__version__ = "0.2.0"
