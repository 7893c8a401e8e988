"""What is set for a surface and for the desk, changed at once."""
