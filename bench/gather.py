"""Benchmarks of Gather: inspecting files, finding what covers an area, and panning a full map."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import rasterio
from pyproj import CRS
from rasterio.transform import from_origin

ROOT = Path(__file__).resolve().parents[1]
CHUNK = 500_000


def big_raster(path: Path, side: int = 20_000) -> None:
    """Rolling hills with a little noise, float32, deflate."""
    with rasterio.open(
        path, "w", driver="GTiff", width=side, height=side, count=1, dtype="float32", crs="EPSG:32741", compress="deflate",
        predictor=3, tiled=True, blockxsize=512, blockysize=512, BIGTIFF="YES", zlevel=1, num_threads=2,
        transform=from_origin(400_000, 5_600_000, 1, 1),
    ) as dataset:  # fmt: skip
        x = np.arange(side)[None]
        for row in range(0, side, 512):
            y = np.arange(row, min(row + 512, side))[:, None]
            noise = np.random.default_rng(row).normal(0, 0.05, (len(y), side))
            cells = 100 * np.sin(x / 900) + 80 * np.cos(y / 700) + 200 + noise
            dataset.write(cells.astype(np.float32), 1, window=((row, row + len(y)), (0, side)))


def read_raster(path: Path) -> None:
    """The peer: read every cell once."""
    with rasterio.open(path) as dataset:
        for row in range(0, dataset.height, 512):
            dataset.read(1, window=((row, min(row + 512, dataset.height)), (0, dataset.width)))


def big_cloud(path: Path, count: int = 10_000_000) -> None:
    """Points over three by three kilometres, seven classes, LAZ."""
    rng = np.random.default_rng(1)
    header = laspy.LasHeader(version="1.4", point_format=6)
    header.scales, header.offsets = np.full(3, 0.01), np.array([448_000.0, 5_438_000.0, 0.0])
    header.add_crs(CRS.from_epsg(32741))
    cloud = laspy.LasData(header)
    cloud.x, cloud.y = 448_000 + np.sort(3000 * rng.random(count)), 5_438_000 + 3000 * rng.random(count)
    cloud.z = 100 + 30 * rng.random(count)
    cloud.classification = (7 * rng.random(count)).astype(np.uint8)
    cloud.return_number = np.ones(count, np.uint8)
    cloud.write(str(path), do_compress=True)


def many_tiles(folder: Path, across: int = 10, down: int = 5, count: int = 2_000_000) -> list[Path]:
    """LAZ tiles of one kilometre, six in ten points ground: one is made, the others are its bytes at another place."""
    rng = np.random.default_rng(3)
    header = laspy.LasHeader(version="1.4", point_format=6)
    header.scales, header.offsets = np.full(3, 0.001), np.array([448_000.0, 5_438_000.0, 0.0])
    header.add_crs(CRS.from_epsg(32741))
    cloud = laspy.LasData(header)
    x, y = np.sort(1000 * rng.random(count)), 1000 * rng.random(count)
    cloud.x, cloud.y = 448_000 + x, 5_438_000 + y
    cloud.z = 100 + 20 * np.sin(x / 90) * np.cos(y / 130)
    cloud.classification = np.where(rng.random(count) < 0.6, 2, 5).astype(np.uint8)
    cloud.return_number = np.ones(count, np.uint8)
    first = folder / "0 0.laz"
    cloud.write(str(first), do_compress=True)
    raw = bytearray(first.read_bytes())
    # of the header: offsets of x and y, then greatest and least x, greatest and least y
    places = {0: (155, 179, 187), 1: (163, 195, 203)}
    base = {at: struct.unpack_from("<d", raw, at)[0] for axis in places.values() for at in axis}
    found = []
    for row in range(down):
        for col in range(across):
            for axis, move in ((0, 1000.0 * col), (1, 1000.0 * row)):
                for at in places[axis]:
                    struct.pack_into("<d", raw, at, base[at] + move)
            found.append(folder / f"{row} {col}.laz")
            found[-1].write_bytes(raw)
    return found


def grid_tiles(folder: Path) -> tuple[float, float, int]:
    """In a process of its own: fifty tiles of two million points to one ground surface of 1 m. Seconds, peak in GB, points."""
    script = (
        "import sys,time; from pathlib import Path; sys.path.insert(0,sys.argv[1])\n"
        "from bench.gather import peak_memory\n"
        "from yama.terrain.formats import las; from yama.terrain.grid import Grid; from yama.terrain.surface import store\n"
        "from yama.terrain.interpolate.binning import Filter, GriddedCloud\n"
        "held=[las.read(one) for one in sorted(Path(sys.argv[2]).glob('*.laz'))]\n"
        "grid=Grid('EPSG:32741',448000,5443000,1,1,5000,10000); started=time.perf_counter()\n"
        "store(GriddedCloud(held,grid,'mean',Filter(classes=(2,)),gap=4.0),Path(sys.argv[2])/'out.tif')\n"
        "print(time.perf_counter()-started, peak_memory()/1e3, sum(one.count for one in held))\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, str(ROOT), str(folder)], capture_output=True, text=True, check=True
    )
    took, peak, count = done.stdout.split()
    return float(took), float(peak), int(count)


def decode_cloud(path: Path) -> None:
    """The peer: decode every point once."""
    with laspy.open(path, laz_backend=laspy.LazBackend.LazrsParallel) as reader:
        for _ in reader.chunk_iterator(CHUNK):
            pass


def big_table(path: Path, count: int = 1_000_000) -> None:
    """A CSV with number, position, height and code."""
    rng = np.random.default_rng(2)
    x, y, z = rng.uniform(448_000, 449_000, count), rng.uniform(5_438_000, 5_439_000, count), rng.uniform(0, 100, count)
    with path.open("w") as file:
        file.write("id,x,y,z,code\n")
        file.writelines(f"{i},{x[i]:.3f},{y[i]:.3f},{z[i]:.3f},{'ground' if i % 5 else 'spot'}\n" for i in range(count))


def peak_memory() -> float:
    """The most this process held in memory so far, in MB. The kernel's resource usage would count its parent too."""
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmHWM:")[1].split()[0]) / 1e3


def peak_of_inspecting(path: Path) -> float:
    """Peak memory in MB of a process that inspects a cloud and does nothing else."""
    script = (
        "import sys; sys.path[:0] = sys.argv[1], sys.argv[1] + '/bench'\n"
        "from yama.terrain.formats import las; las.inspect(sys.argv[2])\n"
        "from gather import peak_memory; print(peak_memory())\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, str(ROOT), str(path)], capture_output=True, text=True, check=True
    )
    return float(done.stdout)


def drawn_map() -> dict[str, float]:
    """In Chromium, against a server of its own: seconds from opening Order tiles to footprints, and milliseconds between
    two frames while a map of clouds and lines, and one of a surface alone, is dragged."""
    from playwright.sync_api import sync_playwright

    from yama.launch import Instance, prepare

    flags = ["--no-sandbox", "--disable-gpu", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run",
             "--disable-background-networking", "--disable-component-update", "--disable-sync"]  # fmt: skip
    found: dict[str, float] = {}
    with tempfile.TemporaryDirectory(prefix="yama-bench-") as folder, sync_playwright() as playwright:
        instance = Instance(prepare(Path(folder), 0))
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
        try:
            address = instance.start()
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(address)
            page.get_by_role("button", name="Gather, stage").click()
            page.get_by_role("button", name="Order tiles").click()
            page.get_by_text("tiles here").first.wait_for()
            page.get_by_role("button", name="All in Gather").click()
            page.reload()
            page.get_by_role("button", name="Gather, stage").click()
            started = time.perf_counter()
            page.get_by_role("button", name="Order tiles").click()
            page.get_by_text("tiles here").first.wait_for()
            found["footprints"] = time.perf_counter() - started
            page.get_by_role("button", name="All in Gather").click()
            page.get_by_role("combobox", name="Surface in A").click()
            page.get_by_role("option", name="Beacon 30").click()
            _quiet()
            _drag(page, found, "surface")
            page.get_by_role("button", name="Add files").click()
            demo = Path(folder) / "demo"
            files = [*sorted(demo.glob("*.laz"))[:2], demo / "old_sheet_contours.zip",
                     *(demo / "depot" / f"waymark_{name}.geojson" for name in ("land_cover", "boundary"))]  # fmt: skip
            page.get_by_label("Files to add").set_input_files(files)
            page.locator(".arrival").nth(len(files) - 1).wait_for(timeout=90_000)
            page.get_by_role("tab", name="Lines & points").click()
            for box in page.get_by_role("checkbox").all():
                box.check()
            page.wait_for_timeout(4000)
            _quiet()
            _drag(page, found, "full")
        finally:
            browser.close()
            instance.stop()
    return found


def _quiet() -> None:
    """Wait until nothing else computes: what a server compiles when it starts, and files being taken in, would be measured too."""
    deadline = time.monotonic() + 120
    calm = 0
    while calm < 3 and time.monotonic() < deadline:
        before = _idle()
        time.sleep(1)
        calm = calm + 1 if _idle() - before > 1.7 else 0


def _idle() -> float:
    """Seconds in which the cores had nothing to do, since the machine started."""
    return float(Path("/proc/uptime").read_text().split()[1])


def _drag(page: Any, found: dict[str, float], name: str) -> None:
    """Drag the map by 180 x 90 pixels and back, and note the gaps between frames."""
    page.mouse.move(790, 320)
    page.mouse.down()
    page.evaluate(
        """() => { const gaps = []; let last = performance.now(); window.frames_of = gaps; window.going = true;
        (function tick() { const now = performance.now(); gaps.push(now - last); last = now;
        if (window.going) requestAnimationFrame(tick); })(); }"""
    )
    for i in [*range(60), *range(60, 0, -1)]:
        page.mouse.move(790 - 3 * i, 320 - 1.5 * i)
        page.wait_for_timeout(16)
    gaps = sorted(json.loads(page.evaluate("() => { window.going = false; return JSON.stringify(window.frames_of); }")))
    page.mouse.up()
    page.wait_for_timeout(800)
    found[f"{name} median"] = gaps[len(gaps) // 2]
    found[f"{name} longest"] = gaps[-1]
