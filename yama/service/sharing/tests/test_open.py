"""Surfaces that are open: anybody with the address reads what the project holds, and nobody after it is closed."""

import io
import xml.etree.ElementTree as ET

import numpy as np
import rasterio
from rasterio import MemoryFile

from yama.service.sharing.wmts import capabilities_of, levels_of
from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.grid import Grid
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import view_picture
from yama.terrain.surface import StoredSurface

LOOK = {"stops": [[0, "#000000"], [1, "#FF8000"]], "low": 0, "high": 60, "lit": False}
WMTS = {"w": "http://www.opengis.net/wmts/1.0", "o": "http://www.opengis.net/ows/1.1"}


class OpenTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.held = self.add_surface()
        self.opened = self.ask("POST", "/shares", {"holding": self.held.pk, "dress": LOOK}, 201)
        self.client.logout()

    def get(self, address, status=200, **headers):
        path = address.split("testserver", 1)[-1]
        response = self.client.get(path, headers=headers)
        self.assertEqual(response.status_code, status, path)
        return response

    def test_capabilities_say_where_every_tile_is(self):
        page = self.get(self.opened["wmts"])
        self.assertEqual(page.headers["Access-Control-Allow-Origin"], "*")
        root = ET.fromstring(page.content)
        self.assertEqual(root.find(".//o:SupportedCRS", WMTS).text, "urn:ogc:def:crs:EPSG::32741")
        template = root.find(".//w:ResourceURL", WMTS).attrib["template"]
        matrices = root.findall(".//w:TileMatrix", WMTS)
        self.assertEqual(len(matrices), levels_of(GRID) + 1)
        for matrix in matrices:
            number, wide, high = (
                matrix.find(name, WMTS).text for name in ("o:Identifier", "w:MatrixWidth", "w:MatrixHeight")
            )
            cell = float(matrix.find("w:ScaleDenominator", WMTS).text) * 0.00028
            self.assertAlmostEqual(cell, 2.0 * 2 ** (levels_of(GRID) - int(number)))
            self.assertEqual(matrix.find("w:TopLeftCorner", WMTS).text, "448000.0 5438600.0")
            for row in range(int(high)):
                for col in range(int(wide)):
                    place = {"{TileMatrix}": number, "{TileRow}": str(row), "{TileCol}": str(col)}
                    address = template
                    for name, value in place.items():
                        address = address.replace(name, value)
                    self.assertEqual(self.get(address).headers["Content-Type"], "image/png")

    def test_a_tile_is_what_the_desk_draws(self):
        base = self.opened["wmts"].split("/1.0.0")[0]
        top = levels_of(GRID)
        with MemoryFile(self.get(f"{base}/tiles/{top}/1/1.png").content) as file, file.open() as dataset:
            found = dataset.read()
        surface = StoredSurface(self.held.cells_path)
        whole = Dress((((0.0, "#000000")), (1.0, "#FF8000")), 0, 60, lit=False)
        grid = Grid(GRID.crs, GRID.west + 512, GRID.north - 512, 2, 2, 256, 256)
        with MemoryFile(view_picture(surface, grid, whole, clear=True)) as file, file.open() as dataset:
            np.testing.assert_array_equal(found, dataset.read())
        self.assertEqual((found[3, :44, :44].min(), found[3, 44:].max()), (255, 0))  # clear past the last cell
        for place in (f"{top + 1}/0/0", f"{top}/9/0", f"{top}/0/9"):
            self.get(f"{base}/tiles/{place}.png", 404)

    def test_no_seam_runs_between_tiles(self):
        self.as_role("editor")
        lit = {**LOOK, "lit": True, "azimuth": 90, "stops": [[0, "#808080"], [1, "#808080"]]}  # a plane: one brightness
        base = self.ask("POST", "/shares", {"holding": self.held.pk, "dress": lit}, 201)["wmts"].split("/1.0.0")[0]
        with MemoryFile(self.get(f"{base}/tiles/{levels_of(GRID)}/0/0.png").content) as file, file.open() as dataset:
            inner = dataset.read(1)[1:, 1:]  # but for the surface's own rim
        self.assertEqual(len(np.unique(inner)), 1)

    def test_the_file_is_read_by_ranges(self):
        raw = self.held.cells_path.read_bytes()
        address = self.opened["file"]
        whole = self.get(address)
        self.assertEqual(b"".join(whole.streaming_content), raw)
        self.assertEqual((whole.headers["Accept-Ranges"], whole.headers["Content-Length"]), ("bytes", str(len(raw))))
        for asked, part in (("0-99", raw[:100]), ("100-", raw[100:]), ("-7", raw[-7:]), ("5-999999999", raw[5:])):
            found = self.get(address, 206, range=f"bytes={asked}")
            self.assertEqual(b"".join(found.streaming_content), part, asked)
        self.assertEqual(self.get(address, 206, range="bytes=3-4").headers["Content-Range"], f"bytes 3-4/{len(raw)}")
        self.get(address, 416, range=f"bytes={len(raw)}-")
        self.assertEqual(self.client.head(address.split("testserver")[1]).headers["Content-Length"], str(len(raw)))
        with rasterio.open(io.BytesIO(raw)) as dataset:
            self.assertEqual(dataset.width, GRID.cols)

    def test_closed_it_is_gone_at_once_and_a_live_one_has_no_file(self):
        base = self.opened["wmts"].split("/1.0.0")[0]
        tile = f"{base}/tiles/0/0/0.png"
        self.get(tile)
        self.as_role("editor")
        self.ask("DELETE", f"/shares/{self.opened['id']}", status=204)
        self.assertEqual(self.ask("GET", "/shares"), [])
        for address in (tile, self.opened["wmts"], self.opened["file"]):
            self.get(address, 404)
        self.get("/open/guess/tiles/0/0/0.png", 404)
        run = {"operation": "slope", "params": {}, "inputs": {"surface": self.held.pk}, "name": "Slope", "live": True}
        self.ask("POST", "/runs", run, 202)
        live = self.run_jobs()[0].holding
        opened = self.ask("POST", "/shares", {"holding": live.pk, "dress": LOOK}, 201)
        self.assertEqual(opened["file"], "")
        base = opened["wmts"].split("/1.0.0")[0]
        self.assertIn("Store it first", self.get(f"{base}/surface.tif", 409).content.decode())
        self.get(f"{base}/tiles/0/0/0.png")
        self.ask("POST", "/shares", {"holding": live.pk, "dress": {**LOOK, "low": 99}}, 422)
        self.ask("POST", "/shares", {"holding": 9_999, "dress": LOOK}, 404)

    def test_a_frame_in_degrees_names_its_corner_north_first(self):
        text = capabilities_of(Grid("EPSG:4326", 62.0, -41.0, 0.01, 0.01, 300, 300), "a <b> & c", "https://x/open/t")
        self.assertIn("<TopLeftCorner>-41.0 62.0</TopLeftCorner>", text)
        self.assertIn("a &lt;b&gt; &amp; c", text)
        self.assertAlmostEqual(
            float(ET.fromstring(text).findall(".//w:ScaleDenominator", WMTS)[-1].text) * 0.00028, 1113.19, places=1
        )
