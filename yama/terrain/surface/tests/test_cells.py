"""Cells of every type come back from a file as they went in, on every level that there is."""

import numpy as np
import rasterio
import shapely

from yama.terrain.cog import TILE, Encoding
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import Masked
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations import Task, find
from yama.terrain.surface import ArraySurface, Category, StoredSurface, store
from yama.terrain.tests.test_surface import FolderTest

ROWS, COLS = TILE + 70, 2 * TILE + 31  # not a whole number of tiles
GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 1.0, 1.0, ROWS, COLS)


class Kinds(ArraySurface):
    """Cells that are categories."""

    encoding = Encoding("uint8", 1.0, 0.0, categorical=True)
    categories = (Category(1, "rock", "#887766"), Category(2, "till", inputs=(0, 3)), Category(7, "peat"))


def most_frequent(cells: np.ndarray) -> np.ndarray:
    """The most frequent value of each 2 x 2 cells, the first in reading order among equals, in as many words."""
    rows, cols = -(-cells.shape[0] // 2), -(-cells.shape[1] // 2)
    result = np.full((rows, cols), np.nan, np.float32)
    for row in range(rows):
        for col in range(cols):
            known = [value for value in cells[2 * row : 2 * row + 2, 2 * col : 2 * col + 2].ravel() if value == value]
            if known:
                result[row, col] = max(known, key=known.count)  # the first of those that are
    return result


class CellsTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.rng = np.random.default_rng(5)

    def stored(self, surface, **how) -> StoredSurface:
        store(surface, self.folder / "made.tif", **how)
        return StoredSurface(self.folder / "made.tif")

    def test_categories_are_never_averaged(self):
        cells = self.rng.choice([1.0, 2.0, 7.0, np.nan], (ROWS, COLS)).astype(np.float32)
        held = self.stored(Kinds(cells, GRID))
        np.testing.assert_array_equal(held.read_all(), cells)
        level, expected = 1, cells
        while min(expected.shape) > 8:
            expected = most_frequent(expected)
            np.testing.assert_array_equal(held.read(GRID.at_level(level).whole, level), expected, f"level {level}")
            level += 1
        self.assertGreater(level, 4)

    def test_categories_are_told_with_their_names_and_colours(self):
        held = self.stored(Kinds(np.ones((ROWS, COLS), np.float32), GRID))
        self.assertEqual(held.categories, Kinds.categories)
        self.assertEqual(held.encoding, Kinds.encoding)

    def test_categories_that_a_file_does_not_say_properly_are_refused(self):
        store(Kinds(np.ones((ROWS, COLS), np.float32), GRID), self.folder / "made.tif")
        for told in ("[", "7", '[{"value": "rock"}]', '[{"value": 1, "name": "rock", "colour": "", "inputs": 4}]'):
            with rasterio.open(self.folder / "made.tif", "r+", IGNORE_COG_LAYOUT_BREAK="YES") as dataset:
                dataset.update_tags(YAMA_CATEGORIES=told)
            with self.assertRaisesMessage(InputError, "does not say properly what its categories are"):
                StoredSurface(self.folder / "made.tif")

    def test_whole_numbers_of_a_file_that_knows_no_empty_cells_can_become_empty(self):
        made = {"driver": "GTiff", "dtype": "int32", "count": 1, "crs": GRID.crs, "transform": GRID.transform}
        with rasterio.open(self.folder / "whole.tif", "w", width=COLS, height=ROWS, **made) as dataset:
            dataset.write(np.full((ROWS, COLS), 2**30 + 1, np.int32), 1)
        half = shapely.box(448_000, 5_437_000, 448_100, 5_438_000)
        held = self.stored(Masked(StoredSurface(self.folder / "whole.tif"), [half])).read_exact(GRID.whole)
        np.testing.assert_array_equal(held[:, :100], 2**30 + 1)
        self.assertTrue(np.isnan(held[:, 100:]).all())

    def test_digits_that_single_precision_has_not_are_kept(self):
        cells = 1e7 + self.rng.random((ROWS, COLS))
        cells[40:60, 10:300] = np.nan
        held = self.stored(ArraySurface(cells, GRID), encoding=Encoding("float64"))
        np.testing.assert_array_equal(held.read_exact(GRID.whole), cells)
        self.assertFalse(np.array_equal(held.read_all().astype(np.float64), cells, equal_nan=True))
        window = Window(30, 290, 40, 40)
        np.testing.assert_array_equal(held.read_exact(window), cells[30:70, 290:330])

    def test_whole_numbers_beyond_single_precision_are_kept(self):
        cells = self.rng.integers(2**24, 2**31 - 1, (ROWS, COLS)).astype(np.float64)
        cells[0, :5] = np.nan
        held = self.stored(ArraySurface(cells, GRID), encoding=Encoding("int32", 1.0, -1.0))
        np.testing.assert_array_equal(held.read_exact(GRID.whole), cells)

    def test_whole_numbers_that_are_changed_are_whole_no_more(self):
        """What is stored is what was looked at: half a metre is not rounded away."""
        store(
            ArraySurface(np.full((ROWS, COLS), 7.0), GRID),
            self.folder / "whole.tif",
            encoding=Encoding("int32", 1.0, -1.0),
        )
        whole = StoredSurface(self.folder / "whole.tif")
        ring = [(448_010, 5_437_900), (448_090, 5_437_900), (448_090, 5_437_990)]
        patch = {"ring": ring, "operator": {"kind": "raise", "by": 0.5}}
        frame = Frame(GRID, "m", "")
        for name, settings in (
            ("move", {"up": 0.5}),
            ("mend", {"patches": [patch]}),
            ("change_heights", {"offset": 0.5}),
        ):
            live = Task(find(name), {"surface": whole}, settings, frame).run().surface("surface")
            self.assertIn(7.5, live.read_all())
            np.testing.assert_array_equal(self.stored(live).read_all(), live.read_all())
