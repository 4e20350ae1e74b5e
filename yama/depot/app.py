"""The depots' HTTP: routing, answers, ranges. Run it with any WSGI server; `application` reads DEPOT_DIR and DEPOT_CONTROL."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable, Iterable
from hashlib import sha256
from pathlib import Path
from typing import Any

import numpy as np
import rasterio
import rasterio.merge
import shapely
import shapely.geometry
from rasterio.enums import Resampling
from werkzeug.exceptions import BadRequest, Forbidden, HTTPException, NotFound, ServiceUnavailable
from werkzeug.routing import Map, Rule
from werkzeug.wrappers import Request, Response

from yama.depot import catalogue
from yama.depot.behaviour import Behaviour
from yama.depot.catalogue import Json, Stock
from yama.depot.cutout import Orders, RefusedError

WAYMARK = "waymark"
_LIMIT = 100
_MOST = 1000
_OVERVIEW_CELLS = 256
_START: dict[str, Json] = {
    "heron": {"down_seconds": 60},
    "skerry": {"bytes_per_second": 400_000, "flip": ["E450N5438"]},
}
"""How things stand when the demo's depots open: one is down for a minute, one is slow and its next E450N5438 damaged."""

_RULES = Map([
    Rule("/<provider>/stac", endpoint="landing"),
    Rule("/<provider>/stac/conformance", endpoint="conformance"),
    Rule("/<provider>/stac/collections", endpoint="collections"),
    Rule("/<provider>/stac/collections/<name>", endpoint="collection"),
    Rule("/<provider>/stac/collections/<name>/items", endpoint="items"),
    Rule("/<provider>/stac/collections/<name>/items/<tile>", endpoint="item"),
    Rule("/<provider>/stac/search", endpoint="search", methods=["GET", "POST"]),
    Rule("/<provider>/assets/<tile>.tif", endpoint="asset"),
    Rule("/<provider>/overview.tif", endpoint="overview"),
    Rule("/<provider>/processes", endpoint="processes"),
    Rule("/<provider>/processes/cut-out/execution", endpoint="execute", methods=["POST"]),
    Rule("/<provider>/jobs/<number>", endpoint="job"),
    Rule("/<provider>/jobs/<number>/results", endpoint="results"),
    Rule("/<provider>/control", endpoint="control", methods=["POST"]),
    Rule("/waymark/", endpoint="wm_landing"),
    Rule("/waymark/conformance", endpoint="wm_conformance"),
    Rule("/waymark/collections", endpoint="wm_collections"),
    Rule("/waymark/collections/<name>", endpoint="wm_collection"),
    Rule("/waymark/collections/<name>/items", endpoint="wm_items"),
    Rule("/waymark/collections/<name>/items/<int:number>", endpoint="wm_item"),
])  # fmt: skip


def _answer(data: Json, kind: str = "application/json", status: int = 200) -> Response:
    return Response(json.dumps(data), status=status, content_type=kind)


def _box(text: str | list[float] | None) -> list[float] | None:
    if not text:
        return None
    try:
        values = [float(value) for value in (text.split(",") if isinstance(text, str) else text)]
    except ValueError as error:
        raise BadRequest("bbox must be four numbers") from error
    if len(values) not in (4, 6):
        raise BadRequest("bbox must be four numbers")
    return values if len(values) == 4 else [values[0], values[1], values[3], values[4]]


def _within(moment: str, asked: str | None) -> bool:
    """Whether an RFC 3339 moment lies in the interval asked for; `..` is an open end."""
    if not asked:
        return True
    start, _, end = asked.partition("/")
    end = end or start
    return (start in ("", "..") or start <= moment) and (end == ".." or moment <= end or moment.startswith(end))


class Depots:
    """The WSGI application."""

    def __init__(self, stock: Stock, control: str = "", orders: Path | None = None) -> None:
        self.stock = stock
        self._control_key = control
        self._orders = Orders(stock, orders or Path(tempfile.gettempdir()) / "depot-orders")
        self._behaviours: dict[str, Behaviour] = {}
        self._overviews: dict[str, bytes] = {}

    def behaviour(self, provider: str) -> Behaviour:
        """How a provider behaves now."""
        return self._behaviours.setdefault(provider, Behaviour())

    def __call__(self, environ: Any, start_response: Any) -> Iterable[bytes]:
        request = Request(environ)
        provider = ""
        try:
            endpoint, matched = _RULES.bind_to_environ(environ).match()
            values = dict(matched)
            provider = values.pop("provider", WAYMARK)
            if provider != WAYMARK and provider not in self.stock.products:
                raise NotFound("There is no such provider.")
            if endpoint != "control" and (seconds := self.behaviour(provider).down_for):
                raise ServiceUnavailable("Down for maintenance.", retry_after=seconds)
            view: Callable[..., Response] = getattr(self, f"_{endpoint}")
            root = f"{request.host_url}{provider}"
            response = (
                view(request, root, provider, **values)
                if not endpoint.startswith("wm_")
                else view(request, root, **values)
            )
        except HTTPException as error:
            response = _answer({"code": error.name, "description": error.description}, status=error.code or 500)
            if isinstance(error, ServiceUnavailable):
                response.headers["Retry-After"] = str(self.behaviour(provider).down_for)
        return response(environ, start_response)

    # -- STAC ---------------------------------------------------------------------------------------------

    def _landing(self, request: Request, root: str, provider: str) -> Response:
        return _answer(catalogue.landing(provider, self.stock.products[provider], root))

    def _conformance(self, request: Request, root: str, provider: str) -> Response:
        page = catalogue.landing(provider, self.stock.products[provider], root)
        return _answer({"conformsTo": page["conformsTo"]})

    def _collections(self, request: Request, root: str, provider: str) -> Response:
        held = catalogue.collection(self.stock.products[provider], root)
        links = [{"rel": "self", "href": f"{root}/stac/collections"}, {"rel": "root", "href": f"{root}/stac"}]
        return _answer({"collections": [held], "links": links})

    def _collection(self, request: Request, root: str, provider: str, name: str) -> Response:
        self._product(provider, name)
        return _answer(catalogue.collection(self.stock.products[provider], root))

    def _product(self, provider: str, name: str) -> Json:
        product = self.stock.products[provider]
        if product["name"] != name:
            raise NotFound(f"There is no collection {name}.")
        return product

    def _items(self, request: Request, root: str, provider: str, name: str) -> Response:
        product = self._product(provider, name)
        return self._found(request, root, provider, product, request.args.to_dict())

    def _item(self, request: Request, root: str, provider: str, name: str, tile: str) -> Response:
        product = self._product(provider, name)
        found = self.stock.tile(provider, tile)
        if found is None:
            raise NotFound(f"There is no item {tile}.")
        return _answer(catalogue.item(product, found, root), "application/geo+json")

    def _search(self, request: Request, root: str, provider: str) -> Response:
        asked = request.args.to_dict() if request.method == "GET" else request.get_json()
        product = self.stock.products[provider]
        wanted = asked.get("collections") or [product["name"]]
        wanted = wanted.split(",") if isinstance(wanted, str) else wanted
        if product["name"] not in wanted:
            return _answer(
                {"type": "FeatureCollection", "features": [], "links": [], "numberMatched": 0, "numberReturned": 0}
            )
        return self._found(request, root, provider, product, asked)

    def _found(self, request: Request, root: str, provider: str, product: Json, asked: Json) -> Response:
        box = _box(asked.get("bbox"))
        ids = asked.get("ids")
        ids = ids.split(",") if isinstance(ids, str) else ids
        area = shapely.geometry.shape(asked["intersects"]) if asked.get("intersects") else None
        moment = f"{product['year']}-07-01T00:00:00Z"
        tiles = [
            tile for tile in product["tiles"]
            if (box is None or catalogue.overlaps(tile["bbox"], box)) and (ids is None or tile["name"] in ids)
            and (area is None or area.intersects(shapely.box(*tile["bbox"])))
            and _within(moment, asked.get("datetime"))
        ]  # fmt: skip
        limit = min(max(int(asked.get("limit") or _LIMIT), 1), _MOST)
        first = int(asked.get("token") or 0)
        page = tiles[first : first + limit]
        links = [{"rel": "root", "href": f"{root}/stac", "type": "application/json"}]
        if first + limit < len(tiles):
            following = {**asked, "limit": limit, "token": str(first + limit)}
            if request.method == "POST":
                links.append({"rel": "next", "href": request.base_url, "method": "POST", "body": following})  # type: ignore[dict-item]
            else:
                query = "&".join(f"{name}={value}" for name, value in following.items())
                links.append({"rel": "next", "href": f"{request.base_url}?{query}", "method": "GET"})
        return _answer(
            {
                "type": "FeatureCollection",
                "features": [catalogue.item(product, tile, root) for tile in page],
                "links": links,
                "numberMatched": len(tiles),
                "numberReturned": len(page),
            },
            "application/geo+json",
        )

    # -- files --------------------------------------------------------------------------------------------

    def _asset(self, request: Request, root: str, provider: str, tile: str) -> Response:
        found = self.stock.tile(provider, tile)
        if found is None:
            raise NotFound(f"There is no asset {tile}.tif.")
        return self._send(request, provider, self.stock.tile_path(provider, tile), found["sha256"])

    def _send(self, request: Request, provider: str, path: Path, etag: str) -> Response:
        size = path.stat().st_size
        first, last, status = 0, size, 200
        asked = request.range
        if (
            asked is not None
            and len(asked.ranges) == 1
            and (request.if_range is None or request.if_range.etag in (None, etag))
        ):
            bounds = asked.range_for_length(size)
            if bounds is None:
                return Response(status=416, headers={"Content-Range": f"bytes */{size}"})
            (first, last), status = bounds, 206
        headers = {"Content-Length": str(last - first), "Accept-Ranges": "bytes", "ETag": f'"{etag}"'}
        if status == 206:
            headers["Content-Range"] = f"bytes {first}-{last - 1}/{size}"
        body = self.behaviour(provider).deliver(path, first, last)
        return Response(body, status, headers, content_type="image/tiff; application=geotiff", direct_passthrough=True)

    def _overview(self, request: Request, root: str, provider: str) -> Response:
        """The whole product on few cells, for a quick look."""
        if provider not in self._overviews:
            product = self.stock.products[provider]
            paths = [self.stock.tile_path(provider, tile["name"]) for tile in product["tiles"]]
            boxes = np.array([tile["bounds"] for tile in product["tiles"]])
            side = max(boxes[:, 2].max() - boxes[:, 0].min(), boxes[:, 3].max() - boxes[:, 1].min())
            cell = max(side / _OVERVIEW_CELLS, product["cell"])
            empty = product["nodata"] if product["nodata"] is not None else -32767
            cells, transform = rasterio.merge.merge(
                paths, res=(cell, cell), nodata=empty, dtype="float32", resampling=Resampling.nearest
            )
            with rasterio.MemoryFile() as held:
                with rasterio.open(
                    held, "w", driver="GTiff", count=1, dtype="float32", height=cells.shape[1], width=cells.shape[2],
                    crs=product["crs"], transform=transform, nodata=empty, compress="deflate",
                ) as dataset:  # fmt: skip
                    dataset.write(cells[0], 1)
                self._overviews[provider] = held.read()
        return Response(self._overviews[provider], content_type="image/tiff; application=geotiff")

    # -- cut-outs -----------------------------------------------------------------------------------------

    def _processes(self, request: Request, root: str, provider: str) -> Response:
        process = {
            "id": "cut-out", "version": "1.0.0", "title": "Cut-out", "jobControlOptions": ["async-execute"],
            "links": [{"rel": "http://www.opengis.net/def/rel/ogc/1.0/execute", "href": f"{root}/processes/cut-out/execution"}],
        }  # fmt: skip
        return _answer({"processes": [process], "links": [{"rel": "self", "href": f"{root}/processes"}]})

    def _execute(self, request: Request, root: str, provider: str) -> Response:
        body = request.get_json()
        try:
            number = self._orders.accept(provider, body.get("inputs", {}))
        except RefusedError as error:
            raise BadRequest(str(error)) from error
        response = _answer(self._orders.status(provider, number, root) or {}, status=201)
        response.headers["Location"] = f"{root}/jobs/{number}"
        response.autocorrect_location_header = False
        return response

    def _job(self, request: Request, root: str, provider: str, number: str) -> Response:
        info = self._orders.status(provider, number, root)
        if info is None:
            raise NotFound("There is no such job.")
        return _answer(info)

    def _results(self, request: Request, root: str, provider: str, number: str) -> Response:
        path = self._orders.path(provider, number)
        if path is None:
            raise NotFound("There are no results.")
        return self._send(request, provider, path, sha256(path.read_bytes()).hexdigest())

    def _control(self, request: Request, root: str, provider: str) -> Response:
        if not self._control_key or request.headers.get("X-Control") != self._control_key:
            raise Forbidden("Only whoever started the depots may tell them how to behave.")
        self.behaviour(provider).set(request.get_json())
        return Response(status=204)

    # -- OGC API - Features -------------------------------------------------------------------------------

    def _wm_landing(self, request: Request, root: str) -> Response:
        return _answer({
            "title": "Waymark", "description": "Map features of Sundrel.",
            "links": [
                {"rel": "self", "href": f"{root}/", "type": "application/json"},
                {"rel": "conformance", "href": f"{root}/conformance", "type": "application/json"},
                {"rel": "data", "href": f"{root}/collections", "type": "application/json"},
            ],
        })  # fmt: skip

    def _wm_conformance(self, request: Request, root: str) -> Response:
        base = "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf"
        return _answer({"conformsTo": [f"{base}/core", f"{base}/geojson"]})

    def _describe(self, name: str, root: str) -> Json:
        features = self.stock.features[name]
        boxes = np.array([feature["bbox"] for feature in features])
        bbox = [*boxes[:, :2].min(0).tolist(), *boxes[:, 2:].max(0).tolist()]
        return {
            "id": name, "title": name.replace("_", " ").capitalize(), "itemType": "feature",
            "extent": {"spatial": {"bbox": [bbox], "crs": "http://www.opengis.net/def/crs/OGC/1.3/CRS84"}},
            "crs": ["http://www.opengis.net/def/crs/OGC/1.3/CRS84"],
            "kinds": sorted({feature["properties"].get("kind") or "" for feature in features}),
            "links": [
                {"rel": "self", "href": f"{root}/collections/{name}", "type": "application/json"},
                {"rel": "items", "href": f"{root}/collections/{name}/items", "type": "application/geo+json"},
            ],
        }  # fmt: skip

    def _wm_collections(self, request: Request, root: str) -> Response:
        held = [self._describe(name, root) for name in self.stock.features]
        return _answer({"collections": held, "links": [{"rel": "self", "href": f"{root}/collections"}]})

    def _features(self, name: str) -> list[Json]:
        if name not in self.stock.features:
            raise NotFound(f"There is no collection {name}.")
        return self.stock.features[name]

    def _wm_collection(self, request: Request, root: str, name: str) -> Response:
        self._features(name)
        return _answer(self._describe(name, root))

    def _wm_items(self, request: Request, root: str, name: str) -> Response:
        box = _box(request.args.get("bbox"))
        filters = {key: value for key, value in request.args.items() if key in ("name", "kind")}
        found = [
            feature for feature in self._features(name)
            if (box is None or catalogue.overlaps(_grown(feature["bbox"]), box))
            and all(str(feature["properties"].get(key) or "") == value for key, value in filters.items())
        ]  # fmt: skip
        limit = min(max(int(request.args.get("limit", _LIMIT)), 1), _MOST)
        first = max(int(request.args.get("offset", 0)), 0)
        page = found[first : first + limit]
        links = [{"rel": "self", "href": request.url, "type": "application/geo+json"}]
        if first + limit < len(found):
            query = "&".join(
                f"{key}={value}"
                for key, value in {**request.args.to_dict(), "limit": limit, "offset": first + limit}.items()
            )
            links.append({"rel": "next", "href": f"{request.base_url}?{query}", "type": "application/geo+json"})
        return _answer(
            {"type": "FeatureCollection", "features": page, "links": links, "numberMatched": len(found),
             "numberReturned": len(page)},
            "application/geo+json",
        )  # fmt: skip

    def _wm_item(self, request: Request, root: str, name: str, number: int) -> Response:
        found = next((feature for feature in self._features(name) if feature["id"] == number), None)
        if found is None:
            raise NotFound(f"There is no feature {number}.")
        link = {"rel": "self", "href": request.url, "type": "application/geo+json"}
        return _answer({**found, "links": [link]}, "application/geo+json")


def _grown(box: list[float]) -> list[float]:
    """A box that has an inside even around a point or an upright line."""
    return [box[0] - 1e-9, box[1] - 1e-9, box[2] + 1e-9, box[3] + 1e-9]


def open_for_demo() -> Depots:
    """The application as `./run` starts it."""
    folder = Path(os.environ["DEPOT_DIR"])
    depots = Depots(Stock(folder), os.environ.get("DEPOT_CONTROL", ""), folder / "orders")
    for provider, told in _START.items():
        depots.behaviour(provider).set(told)
    return depots
