"""The eight quiet tints that people give to groups of controls."""

TINTS = ("clay", "wheat", "moss", "lagoon", "sky", "iris", "rose", "chalk")
