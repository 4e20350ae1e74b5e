"""Cut-outs: a part of a product on cells of a chosen size, made while the customer waits elsewhere.

The shapes are those of OGC API - Processes, Part 1: Core (OGC 18-062r2): execute asynchronously, look at the job, fetch
its results.
"""

from __future__ import annotations

import threading
import uuid
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import rasterio
import rasterio.merge
from rasterio.enums import Resampling

from yama.depot.catalogue import Json, Stock


class RefusedError(Exception):
    """Why an order is not accepted."""


class Orders:
    """The orders of all providers, kept in memory; files lie under `folder`."""

    def __init__(self, stock: Stock, folder: Path) -> None:
        self._stock = stock
        self._folder = folder
        self._jobs: dict[str, Json] = {}
        self._lock = threading.Lock()

    def accept(self, provider: str, inputs: Json) -> str:
        """Check an order and start on it; returns its id. inputs: bounds in the product's CRS and cell_size."""
        product = self._stock.products[provider]
        try:
            west, south, east, north = (float(value) for value in inputs["bounds"])
            cell = float(inputs["cell_size"])
        except (KeyError, TypeError, ValueError) as error:
            raise RefusedError("An order needs bounds (west, south, east, north) and cell_size.") from error
        if not (west < east and south < north and cell >= product["cell"] * (1 - 1e-9)):
            raise RefusedError(f"Bounds must enclose ground, and cells be {product['cell']:g} or larger.")
        cells = round((east - west) / cell) * round((north - south) / cell)
        if cells > product["max_cells"] or max(east - west, north - south) / cell > 4000:
            raise RefusedError(f"{cells} cells are over the limit of {product['max_cells']} of {product['title']}.")
        number = uuid.uuid4().hex
        with self._lock:
            self._jobs[number] = {
                "provider": provider,
                "status": "accepted",
                "created": datetime.now(UTC),
                "progress": 0,
            }
        threading.Thread(target=self._make, args=(number, (west, south, east, north), cell), daemon=True).start()
        return number

    def _make(self, number: str, bounds: tuple[float, float, float, float], cell: float) -> None:
        job = self._jobs[number]
        job["status"] = "running"
        product = self._stock.products[job["provider"]]
        try:
            path = self._folder / f"{number}.tif"
            self._folder.mkdir(parents=True, exist_ok=True)
            with ExitStack() as stack:
                tiles = [
                    stack.enter_context(rasterio.open(self._stock.tile_path(job["provider"], tile["name"])))
                    for tile in product["tiles"]
                    if tile["bounds"][0] < bounds[2] and tile["bounds"][2] > bounds[0]
                    and tile["bounds"][1] < bounds[3] and tile["bounds"][3] > bounds[1]
                ]  # fmt: skip
                if not tiles:
                    raise RefusedError("Nothing is offered there.")
                empty = product["nodata"] if product["nodata"] is not None else np.nan
                cells, transform = rasterio.merge.merge(
                    tiles, bounds=bounds, res=(cell, cell), nodata=empty, dtype=product["dtype"],
                    resampling=Resampling.average if cell > product["cell"] * 1.01 else Resampling.nearest,
                )  # fmt: skip
                profile: dict[str, Any] = {
                    "driver": "GTiff", "count": 1, "dtype": product["dtype"], "crs": tiles[0].crs, "nodata": empty,
                    "height": cells.shape[1], "width": cells.shape[2], "transform": transform, "compress": "deflate",
                }  # fmt: skip
            with rasterio.open(path, "w", **profile) as dataset:
                dataset.write(cells[0], 1)
            job.update(status="successful", progress=100, path=path)
        except Exception as error:
            job.update(status="failed", message=str(error))

    def status(self, provider: str, number: str, root: str) -> Json | None:
        """A job as the standard's statusInfo; None where there is none."""
        job = self._jobs.get(number)
        if job is None or job["provider"] != provider:
            return None
        info = {
            "jobID": number, "processID": "cut-out", "type": "process", "status": job["status"],
            "created": job["created"].isoformat(), "progress": job["progress"], "message": job.get("message", ""),
            "links": [{"rel": "self", "href": f"{root}/jobs/{number}", "type": "application/json"}],
        }  # fmt: skip
        if job["status"] == "successful":
            info["links"].append(
                {"rel": "http://www.opengis.net/def/rel/ogc/1.0/results", "href": f"{root}/jobs/{number}/results"}
            )
        return info

    def path(self, provider: str, number: str) -> Path | None:
        """The file of a finished job."""
        job = self._jobs.get(number)
        return job.get("path") if job and job["provider"] == provider else None
