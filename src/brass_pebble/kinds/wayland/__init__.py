"""Wayland protocols that need a native library: spoken by a process of its own, which can take nothing else with it."""
