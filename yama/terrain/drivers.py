"""Which of GDAL's drivers may open anything at all.

A file names its own format, and some formats are nothing but pointers to other files or to addresses. Whoever hands over
such a file would read what the server can read. So the drivers of such formats are switched off in every process that
imports the core, and a process that reads files from outside (`apart.py`) keeps only those in `KEPT`.
"""

from __future__ import annotations

import ctypes
import os
from pathlib import Path

KEPT = frozenset(
    {"GTiff", "COG", "AAIGrid", "netCDF", "PNG", "MEM", "Memory", "GPKG", "Shapefile", "GeoJSON", "KML", "GPX"}
)
"""Drivers of the formats that are read and written here, by the last word of their names."""


def is_kept(name: str) -> bool:
    """Whether a driver of that name is one of those used here."""
    return name.split()[-1] in KEPT


_POINTING = (
    "VRT", "GTI", "DERIVED", "OGR_VRT", "GDALG", "STACIT", "STACTA", "HTTP", "WMS", "WMTS", "WCS", "WFS", "CSW", "OAPIF",
    "OGCAPI", "LIBKML", "GML", "GeoRSS", "SQLite",
)  # fmt: skip
"""Drivers of formats that point elsewhere. LIBKML and the others at the end follow links, which KML's plain driver does not."""

_SETTINGS = {
    "GDAL_SKIP": ",".join(_POINTING),
    "CPL_VSIL_CURL_ALLOWED_EXTENSIONS": ".nothing-is-fetched",
    "GDAL_VRT_ENABLE_PYTHON": "NO",
    "OGR_SQLITE_LOAD_EXTENSIONS": "NO",
    "GDAL_DRIVER_PATH": "disable",
    "GDAL_DISABLE_READDIR_ON_OPEN": "EMPTY_DIR",  # what lies beside a raster is read by `formats.beside`, and nothing else
    "PROJ_NETWORK": "OFF",
}


def close_doors() -> None:
    """Switch off what points elsewhere, for this process and those it starts. Must run before GDAL is loaded."""
    os.environ.update(_SETTINGS)


def keep_only_known() -> None:
    """Take every driver but those in `KEPT` out of this process, which imports both libraries that bring GDAL.

    Raises RuntimeError where one of them cannot be found, since files from outside must not be read then.
    """
    import pyogrio
    import rasterio

    with rasterio.Env():  # this is when rasterio registers its drivers
        for package in (rasterio, pyogrio):
            folder = Path(package.__file__).resolve().parent
            found = sorted((folder.parent / f"{folder.name}.libs").glob("libgdal*"))
            if not found:
                raise RuntimeError(
                    f"The GDAL library of {folder.name} was not found, so its drivers cannot be limited."
                )
            others = _take_out(ctypes.CDLL(str(found[0])))
            # rasterio registers all of them again when its environment is entered anew, less those named here
            os.environ["GDAL_SKIP"] = ",".join(sorted({*os.environ["GDAL_SKIP"].split(","), *others}))


def _take_out(library: ctypes.CDLL) -> list[str]:
    """Deregister the drivers that are not kept; returns their names."""
    library.GDALGetDriver.restype = ctypes.c_void_p
    library.GDALGetDriverShortName.restype = ctypes.c_char_p
    library.GDALGetDriverShortName.argtypes = [ctypes.c_void_p]
    library.GDALDeregisterDriver.argtypes = [ctypes.c_void_p]
    drivers = [library.GDALGetDriver(number) for number in range(library.GDALGetDriverCount())]
    others = []
    for driver in drivers:
        name = library.GDALGetDriverShortName(driver).decode()
        if not is_kept(name):
            library.GDALDeregisterDriver(driver)
            others.append(name)
    return others
