"""How things are told: durations, mistakes with their place, tables; and how far a text may go."""
