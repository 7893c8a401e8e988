"""From a press to its effects: gestures, layers, plans, the router, the player, traces."""
