"""Many surfaces become one: overlaps measured, levelled, and joined by a rule."""
