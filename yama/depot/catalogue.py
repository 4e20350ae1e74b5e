"""What the depots hold: `catalogue.json`, tiles beside it, and Waymark's GeoJSON files."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

Json = dict[str, Any]


@dataclass(frozen=True)
class Stock:
    """The folder of all depots' data; empty of products and features where nothing was put there."""

    folder: Path

    @cached_property
    def products(self) -> dict[str, Json]:
        """Elevation products by provider: the first word of a product's name is its provider's."""
        path = self.folder / "catalogue.json"
        if not path.exists():
            return {}
        listed = json.loads(path.read_text(encoding="utf-8"))["products"]
        return {product["name"].split("-")[0]: product for product in listed}

    @cached_property
    def features(self) -> dict[str, list[Json]]:
        """Waymark's features by collection, numbered from 1."""
        found = {}
        for path in sorted(self.folder.glob("waymark_*.geojson")):
            features = json.loads(path.read_text(encoding="utf-8"))["features"]
            for number, feature in enumerate(features, start=1):
                feature["id"] = number
                feature["bbox"] = _bbox(feature["geometry"]["coordinates"])
            found[path.stem.removeprefix("waymark_")] = features
        return found

    def tile(self, provider: str, name: str) -> Json | None:
        """The description of a tile."""
        return next((tile for tile in self.products[provider]["tiles"] if tile["name"] == name), None)

    def tile_path(self, provider: str, name: str) -> Path:
        """Where a tile of that name, which must be one of the product's, is."""
        product: str = self.products[provider]["name"]
        return self.folder / product / f"{name}.tif"


def _bbox(coordinates: Any) -> list[float]:
    def pairs(node: Any) -> Any:
        if isinstance(node[0], (int, float)):
            yield node
        else:
            for part in node:
                yield from pairs(part)

    xs, ys = zip(*((place[0], place[1]) for place in pairs(coordinates)), strict=True)
    return [min(xs), min(ys), max(xs), max(ys)]


def overlaps(a: list[float], b: list[float]) -> bool:
    """Whether two boxes west, south, east, north share ground; touching is not enough."""
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]


# -- STAC 1.0 -----------------------------------------------------------------------------------------------


def _ring(bbox: list[float]) -> Json:
    west, south, east, north = bbox
    return {
        "type": "Polygon",
        "coordinates": [[[west, south], [east, south], [east, north], [west, north], [west, south]]],
    }


def collection(product: Json, root: str) -> Json:
    """A product as a STAC collection. What a buyer compares is in its summaries."""
    boxes = [tile["bbox"] for tile in product["tiles"]]
    whole = [min(b[0] for b in boxes), min(b[1] for b in boxes), max(b[2] for b in boxes), max(b[3] for b in boxes)]
    name = product["name"]
    return {
        "type": "Collection",
        "stac_version": "1.0.0",
        "id": name,
        "title": product["title"],
        "description": f"{product['title']}: heights of the {product['reference']}, cells of {product['resolution']} m.",
        "license": product.get("licence", "other"),
        "extent": {
            "spatial": {"bbox": [whole]},
            "temporal": {"interval": [[f"{product['year']}-01-01T00:00:00Z", f"{product['year']}-12-31T00:00:00Z"]]},
        },
        "summaries": {
            "gsd": [product["resolution"]],
            "reference_surface": [product["reference"]],
            "vertical_accuracy_le90": [product["le90"]],
            "voids": [product["voids"]],
            "canopy": [product["canopy"]],
            "vertical_datum": [product["datum"]],
            "proj:code": [product["crs"]],
            "cell_size": [product["cell"]],
            "max_cells": [product["max_cells"]],
        },
        "assets": {
            "overview": {
                "href": f"{root}/overview.tif",
                "type": "image/tiff; application=geotiff",
                "roles": ["overview"],
            }
        },
        "links": [
            {"rel": "self", "href": f"{root}/stac/collections/{name}", "type": "application/json"},
            {"rel": "root", "href": f"{root}/stac", "type": "application/json"},
            {"rel": "parent", "href": f"{root}/stac", "type": "application/json"},
            {"rel": "items", "href": f"{root}/stac/collections/{name}/items", "type": "application/geo+json"},
            {"rel": "http://www.opengis.net/def/rel/ogc/1.0/processes", "href": f"{root}/processes"},
        ],
    }


def item(product: Json, tile: Json, root: str) -> Json:
    """A tile as a STAC item. The checksum is a multihash: 12 20, then SHA-256."""
    name = product["name"]
    west, south, east, north = tile["bounds"]
    return {
        "type": "Feature",
        "stac_version": "1.0.0",
        "stac_extensions": [
            "https://stac-extensions.github.io/file/v2.1.0/schema.json",
            "https://stac-extensions.github.io/projection/v2.0.0/schema.json",
        ],
        "id": tile["name"],
        "collection": name,
        "bbox": tile["bbox"],
        "geometry": _ring(tile["bbox"]),
        "properties": {
            "datetime": f"{product['year']}-07-01T00:00:00Z",
            "gsd": product["resolution"],
            "proj:code": product["crs"],
            "proj:shape": [tile["rows"], tile["cols"]],
            "proj:bbox": tile["bounds"],
            "proj:transform": [(east - west) / tile["cols"], 0, west, 0, -(north - south) / tile["rows"], north],
        },
        "assets": {
            "data": {
                "href": f"{root}/assets/{tile['name']}.tif",
                "type": "image/tiff; application=geotiff",
                "roles": ["data"],
                "file:size": tile["bytes"],
                "file:checksum": "1220" + tile["sha256"],
            }
        },
        "links": [
            {
                "rel": "self",
                "href": f"{root}/stac/collections/{name}/items/{tile['name']}",
                "type": "application/geo+json",
            },
            {"rel": "collection", "href": f"{root}/stac/collections/{name}", "type": "application/json"},
            {"rel": "root", "href": f"{root}/stac", "type": "application/json"},
        ],
    }


def landing(provider: str, product: Json, root: str) -> Json:
    """A provider's STAC landing page."""
    return {
        "type": "Catalog",
        "stac_version": "1.0.0",
        "id": provider,
        "title": f"{provider.capitalize()} depot",
        "description": f"Elevation tiles of {product['title']}.",
        "conformsTo": [
            "https://api.stacspec.org/v1.0.0/core",
            "https://api.stacspec.org/v1.0.0/collections",
            "https://api.stacspec.org/v1.0.0/item-search",
            "https://api.stacspec.org/v1.0.0/ogcapi-features",
            "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
            "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
        ],
        "links": [
            {"rel": "self", "href": f"{root}/stac", "type": "application/json"},
            {"rel": "root", "href": f"{root}/stac", "type": "application/json"},
            {"rel": "data", "href": f"{root}/stac/collections", "type": "application/json"},
            {"rel": "conformance", "href": f"{root}/stac/conformance", "type": "application/json"},
            {"rel": "search", "href": f"{root}/stac/search", "type": "application/geo+json", "method": "GET"},
            {"rel": "search", "href": f"{root}/stac/search", "type": "application/geo+json", "method": "POST"},
            {"rel": "child", "href": f"{root}/stac/collections/{product['name']}", "type": "application/json"},
        ],
    }
