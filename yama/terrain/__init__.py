"""The core: surfaces, points, algorithms and operations. No web, no database."""

import warnings

from yama.terrain.drivers import close_doors

close_doors()
# that a raster does not say where it lies is told in our own words, and pictures need not lie anywhere
for _said in ("Dataset has no geotransform", "The given matrix is equal to Affine.identity"):
    warnings.filterwarnings("ignore", message=_said)
