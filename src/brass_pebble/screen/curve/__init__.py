"""How a position is read: the curve, its settings, the live position."""
