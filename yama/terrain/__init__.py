"""The core: surfaces, points, algorithms and operations. No web, no database."""

from yama.terrain.drivers import close_doors

close_doors()
