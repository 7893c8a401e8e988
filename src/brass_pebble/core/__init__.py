"""The functional heart: no I/O beyond its own tables, no clock, no threads, no interface.

Time always arrives as an argument, in integer nanoseconds.
"""
