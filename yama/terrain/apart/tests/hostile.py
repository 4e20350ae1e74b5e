"""Files made to do harm, each a few bytes that ask for a lot; written by code, so that none of them lies about."""

from __future__ import annotations

import sqlite3
import struct
from pathlib import Path

import numpy as np
import rasterio
import shapely

from yama.terrain.features import Features
from yama.terrain.formats import vector

CRS = "EPSG:32741"


def pointing_kml(folder: Path, target: Path) -> Path:
    """A virtual vector file that begins with a comment of KML and reads `target`."""
    path = folder / "places.kml"
    path.write_text(
        "<!-- <kml xmlns='http://www.opengis.net/kml/2.2'> -->\n<OGRVRTDataSource><OGRVRTLayer name='x'>"
        f"<SrcDataSource>{target}</SrcDataSource><SrcLayer>{target.stem}</SrcLayer></OGRVRTLayer></OGRVRTDataSource>"
    )
    return path


def endless_view(folder: Path) -> Path:
    """A GeoPackage whose layer is a view that never ends."""
    path = folder / "endless.gpkg"
    line = np.array([shapely.LineString([(0, 0), (3, 4)])], dtype=object)
    vector.write(Features(CRS, line, {"kind": ["a"]}), path)
    with sqlite3.connect(path) as held:
        held.execute("ALTER TABLE features RENAME TO kept")
        held.execute(
            "CREATE VIEW features AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) "
            "SELECT n.i AS fid, kept.geom AS geom, kept.kind AS kind FROM n, kept"
        )
    held.close()
    return path


def many_records(folder: Path) -> Path:
    """A LAS file that claims 2^32 - 1 variable records."""
    path = folder / "records.las"
    head = bytearray(375 + 30)
    head[:4] = b"LASF"
    head[24:26] = bytes((1, 4))
    struct.pack_into("<HIIBHI", head, 94, 375, 375, 0xFFFFFFFF, 0, 20, 1)
    struct.pack_into("<6d", head, 131, 0.01, 0.01, 0.01, 0.0, 0.0, 0.0)
    path.write_bytes(bytes(head))
    return path


def large_circle(folder: Path) -> Path:
    """A drawing of one circle that would have a million million corners."""
    path = folder / "circle.dxf"
    path.write_text("0\nSECTION\n2\nENTITIES\n0\nCIRCLE\n8\n0\n10\n0\n20\n0\n40\n1e14\n0\nENDSEC\n0\nEOF\n")
    return path


def wide_row(folder: Path, fields: int = 10_000_000) -> Path:
    """A table of one line with ten million fields."""
    path = folder / "wide.csv"
    path.write_text("1," * fields + "\n")
    return path


def blank_lines(folder: Path, size: int = 200_000_000) -> Path:
    """Three points among 200 MB of blank lines."""
    path = folder / "blank.csv"
    with path.open("wb") as file:
        for line in (b"x,y,z\n", b"1,1,1\n", b"2,5,2\n"):
            file.write(line)
            for _ in range(size // 4 // 1_000_000):
                file.write(b"\n" * 1_000_000)
        file.write(b"7,3,3\n")
    return path


def sparse_raster(folder: Path) -> Path:
    """A GeoTIFF of 100 000 x 100 000 cells in some kilobytes: none of its tiles is there."""
    path = folder / "sparse.tif"
    with rasterio.open(
        path, "w", driver="GTiff", width=100_000, height=100_000, count=1, dtype="float32", crs=CRS, sparse_ok=True,
        tiled=True, blockxsize=4096, blockysize=4096, transform=rasterio.Affine(1, 0, 0, 0, -1, 0), BIGTIFF="YES",
    ):  # fmt: skip
        pass
    return path


def full_sparse_raster(folder: Path) -> Path:
    """The same of 40 000 x 40 000 cells, compressed: few enough for a size to be believed, in 1 kB."""
    path = folder / "same.tif"
    side = 40_000
    with rasterio.open(
        path, "w", driver="GTiff", width=side, height=side, count=1, dtype="float32", crs=CRS, compress="deflate",
        tiled=True, blockxsize=4096, blockysize=4096, transform=rasterio.Affine(1, 0, 0, 0, -1, 0), sparse_ok=True,
    ):  # fmt: skip
        pass
    return path


EVERY = (endless_view, many_records, large_circle, wide_row, blank_lines, sparse_raster, full_sparse_raster)
