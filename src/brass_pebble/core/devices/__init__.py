"""What is known of a device: which one it is, its drawing, its parts, its lamps."""
