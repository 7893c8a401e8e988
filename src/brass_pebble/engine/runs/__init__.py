"""What runs want from the world, and what starts runs beside presses."""
