"""The core: surfaces, points, algorithms and operations. No web, no database."""
