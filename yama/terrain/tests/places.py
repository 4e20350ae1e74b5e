"""Where tests build on small numbers."""

LOCAL = "+proj=tmerc +lat_0=-41.2 +lon_0=62.4 +k=1 +x_0=0 +y_0=0 +datum=WGS84 +units=m +no_defs"
"""A CRS whose lengths are true about its origin, as those of a zone of UTM are not where x is 0."""
