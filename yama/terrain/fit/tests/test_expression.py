"""The language of expressions: values against NumPy, empty cells, errors at their column; and the operation around it."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.fit.expression import MOST_NESTED, ExpressionError, is_condition, names_in, parse
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations import find, parse_params
from yama.terrain.operations.calculate import calculated
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import ArraySurface, StoredSurface, store

GRID = Grid("EPSG:32741", 1_000.0, 3_000.0, 2.0, 2.0, 40, 50)
FRAME = Frame(GRID, "m", "")
RNG = np.random.default_rng(5)
A = np.where(RNG.random((40, 50)) < 0.1, np.nan, RNG.normal(10, 8, (40, 50)))
B = np.where(RNG.random((40, 50)) < 0.1, np.nan, RNG.normal(0, 3, (40, 50)))
B[0, :5], A[0, :5] = 0.0, 4.0


def value(text: str) -> np.ndarray:
    return parse(text, ["a", "b"]).value({"a": A, "b": B}, 2.0)


def truth(condition: np.ndarray, *given: np.ndarray) -> np.ndarray:
    empty = np.any([np.isnan(one) for one in given], axis=0)
    return np.where(empty, np.nan, condition.astype(float))


class ValueTest(SimpleTestCase):
    def test_against_numpy(self) -> None:
        with np.errstate(all="ignore"):
            expected = {
                "a + b * 2": A + B * 2,
                "(a + b) * 2 - -1": (A + B) * 2 + 1,
                "a - b - 1": A - B - 1,
                "a / b": np.where(B == 0, np.nan, A / B),
                "2e1 \u00d7 a \u00f7 4 \u2212 .5": 20 * A / 4 - 0.5,
                "a < b": truth(A < B, A, B),
                "a >= 10": truth(A >= 10, A),
                "a != b": truth(A != B, A, B),
                "a <> b": truth(A != B, A, B),
                "a > 5 and b > 0 or a < 0": truth(((A > 5) & (B > 0)) | (A < 0), A, B),
                "not a > 5": truth(~(A > 5), A),
                "not (a > 5) and b < 1": truth(~(A > 5) & (B < 1), A, B),
                "1 - a > 2 * b": truth(1 - A > 2 * B, A, B),
                "min(a, b, 3)": np.minimum(np.minimum(A, B), 3),
                "max(a, b)": np.maximum(A, B),
                "abs(b)": np.abs(B),
                "sqrt(a)": np.where(A < 0, np.nan, np.sqrt(A)),
                "log(a)": np.where(A <= 0, np.nan, np.log(A)),
                "isempty(a)": np.isnan(A).astype(float),
                "where(isempty(a), b, a)": np.where(np.isnan(A), B, A),
                "where(b > 0, a, 0 - a)": np.where(np.isnan(B), np.nan, np.where(B > 0, A, -A)),
            }
        for text, wanted in expected.items():
            np.testing.assert_allclose(value(text), wanted, rtol=1e-12, err_msg=text)

    def test_neighbourhoods_against_their_twin(self) -> None:
        for name, figure in (
            ("mean_around", np.mean),
            ("min_around", np.min),
            ("max_around", np.max),
            ("std_around", np.std),
            ("median_around", np.median),
        ):
            found = value(f"{name}(a, 6)")
            for r, c in ((0, 0), (5, 7), (20, 30), (39, 49), (18, 2)):
                near = [A[i, j] for i in range(max(r - 3, 0), min(r + 4, 40)) for j in range(max(c - 3, 0), min(c + 4, 50))
                        if (i - r) ** 2 + (j - c) ** 2 <= 9 and not np.isnan(A[i, j])]  # fmt: skip
                wanted = np.nan if np.isnan(A[r, c]) else figure(near)
                np.testing.assert_allclose(found[r, c], wanted, rtol=1e-9, atol=1e-9)

    def test_medians_with_holes_ties_and_wide_circles(self) -> None:
        rng = np.random.default_rng(6)
        cells = rng.integers(0, 9, (37, 61)).astype(float)  # many cells are equal
        cells[rng.random(cells.shape) < 0.3] = np.nan
        for metres in (1.0, 3.0, 11.0, 90.0):
            found = parse(f"median_around(a, {metres:g})", ["a"]).value({"a": cells}, 1.0)
            i, j = np.mgrid[:37, :61]
            for r, c in ((0, 0), (5, 7), (20, 30), (36, 60), (18, 2), (11, 59)):
                near = cells[(i - r) ** 2 + (j - c) ** 2 <= metres**2]
                wanted = np.nan if np.isnan(cells[r, c]) else np.nanmedian(near)
                self.assertEqual(found[r, c], wanted, (metres, r, c)) if wanted == wanted else self.assertTrue(
                    np.isnan(found[r, c])
                )
        empty = parse("median_around(a, 3)", ["a"]).value({"a": np.full((5, 5), np.nan)}, 1.0)
        self.assertTrue(np.isnan(empty).all())

    def test_what_it_looks_at(self) -> None:
        node = parse("mean_around(a - mean_around(b, 10), 6) > 2", ["a", "b", "c"])
        self.assertEqual((node.halo(2.0), names_in(node), is_condition(node)), (8, {"a", "b"}, True))
        self.assertFalse(is_condition(parse("a + 1", ["a"])))


class MistakeTest(SimpleTestCase):
    def test_each_is_named_with_its_column(self) -> None:
        for text, column, says in (
            ("", 1, "is empty"),
            ("   ", 1, "is empty"),
            ("a +", 4, "is expected, not the end"),
            ("a + * b", 5, "is expected, not '*'"),
            ("a + c", 5, "There is no surface 'c'; there are a, b"),
            ("A", 1, "There is no surface 'A'"),
            ("(a + b", 7, "needs ')'"),
            ("a + b)", 6, "')' is not expected"),
            ("a b", 3, "'b' is not expected"),
            ("a $ b", 3, "'$' has no meaning"),
            ("a < b < 3", 7, "cannot follow each other"),
            ("sin(a)", 1, "There is no function 'sin'"),
            ("where(a, b)", 1, "is written where(condition, then, else)"),
            ("min(a)", 1, "is written min(a, b, ...)"),
            ("abs", 1, "is written abs(a)"),
            ("a + mean_around(a, b)", 20, "needs a number of metres"),
            ("mean_around(a, 0)", 16, "needs a number of metres"),
            ("mean_around(a, 1e999)", 16, "1e999 is too large"),
            ("__import__('os')", 12, "has no meaning"),
            ("a.__class__", 2, "has no meaning"),
        ):
            with self.assertRaises(ExpressionError, msg=text) as caught:
                parse(text, ["a", "b"])
            self.assertIn(says, str(caught.exception), text)
            self.assertEqual(caught.exception.column, column, text)

    def test_nesting_and_length_have_an_end(self) -> None:
        parse("(" * 90 + "a" + ")" * 90, ["a"])
        for text in ("(" * 1_900 + "a" + ")" * 1_900, "-" * 3_000 + "a", "not " * 900 + "a"):
            with self.assertRaisesMessage(ExpressionError, f"nested more than {MOST_NESTED} deep"):
                parse(text, ["a"])
        with self.assertRaisesMessage(ExpressionError, "longer than 4000 characters"):
            parse("(" * 10_000 + "a" + ")" * 10_000, ["a"])


class CalculateTest(SimpleTestCase):
    operation = find("calculate")

    def run_it(self, surfaces: list[ArraySurface], **params):
        taken = {"surfaces": surfaces}
        return first_of(task_for(self.operation.name, taken, FRAME, params))

    def found(self, surfaces: list[ArraySurface], **params) -> dict:
        taken = {"surfaces": surfaces}
        return {one.code: one for one in task_for(self.operation.name, taken, FRAME, params).findings}

    def test_surfaces_keep_their_letters_when_another_is_left_out(self) -> None:
        pair = [ArraySurface(A, GRID), ArraySurface(B, GRID)]
        usual = self.run_it(pair, expression="a - 2 * b").read_all()
        named = self.run_it([pair[1], pair[0]], expression="a - 2 * b", names=["b", "a"]).read_all()
        np.testing.assert_array_equal(named, usual)
        alone = self.run_it([pair[1]], expression="b + 1", names=["b"]).read_all()
        np.testing.assert_array_equal(alone, (B.astype(np.float32).astype(np.float64) + 1).astype(np.float32))
        self.assertIn("2 letters are given for 1 surfaces", self.found(pair[:1], names=["a", "b"])["names"].sentence)
        self.assertIn("a", self.found([pair[1]], expression="a + 1", names=["b"])["expression"].sentence)
        for wrong in (["a", "a"], ["A"], ["ab"]):
            with self.assertRaises(InputError):
                self.found(pair, names=wrong)

    def test_live_is_stored_with_neighbourhoods(self) -> None:
        live = self.run_it(
            [ArraySurface(A, GRID), ArraySurface(B, GRID)],
            expression="mean_around(a, 8) - where(b > 0, b, max_around(a, 4))",
        )
        whole = live.read_all()
        with tempfile.TemporaryDirectory() as folder:
            store(live, Path(folder) / "c.tif")
            np.testing.assert_array_equal(StoredSurface(Path(folder) / "c.tif").read_all(), whole)
        np.testing.assert_array_equal(live.read(Window(9, 11, 12, 20)), whole[9:21, 11:31])
        self.assertTrue(np.isnan(live.read(Window(-4, -4, 4, 4))).all())

    def test_any_window_looks_as_far_where_a_crs_stretches_the_ground(self) -> None:
        grid = Grid("EPSG:3857", 6.9e6, 9.2e6, 10_000.0, 10_000.0, 160, 40)  # over some twenty degrees of latitude
        surface = ArraySurface(np.random.default_rng(3).random((160, 40), np.float32), grid)
        for name in ("mean_around", "median_around"):
            live = calculated(parse(f"{name}(a, 17000)", ["a"]), {"a": surface}, grid)
            whole = live.read_all()
            for row in (0, 60, 130):
                np.testing.assert_array_equal(live.read(Window(row, 3, 30, 20)), whole[row : row + 30, 3:23])

    def test_findings(self) -> None:
        one = ArraySurface(A, GRID, "m", "sea level")
        feet = ArraySurface(A, GRID, "ft")
        other = ArraySurface(A, GRID, "m", "ellipsoid")
        half = ArraySurface(A, Grid(GRID.crs, GRID.west + 1, GRID.north + 0.5, 2.0, 2.0, 40, 50))
        wide = ArraySurface(A, Grid(GRID.crs, GRID.west, GRID.north, 5.0, 5.0, 40, 50))
        away = ArraySurface(A, Grid(GRID.crs, GRID.west + 9_000, GRID.north, 2.0, 2.0, 40, 50))
        degrees = ArraySurface(A, Grid("EPSG:4326", 62.4, -41.2, 0.01, 0.01, 40, 50))
        self.assertEqual(self.found([one, one]), {})
        self.assertEqual(self.found([one, feet]), {})  # a task puts both into the frame's unit
        self.assertEqual(self.found([one, other])["datum"].weight, "caution")
        self.assertIn("0.50 cell east or west and 0.25 north", self.found([one, half])["grid-b"].sentence)
        self.assertIn("cells of 5 m, the frame of 2 m", self.found([one, wide])["grid-b"].sentence)
        self.assertIn("b is in EPSG:4326", self.found([one, degrees])["grid-b"].sentence)
        self.assertEqual(self.found([one, away])["outside"].sentence, "b lies outside the frame.")
        self.assertEqual(self.found([one, one], expression="a > 3")["condition"].weight, "note")
        self.assertEqual(self.found([one], expression="3 + 4")["constant"].weight, "stop")
        self.assertIn("at column 5", self.found([one], expression="a + b")["expression"].sentence)
        self.assertEqual(self.found([one], expression="mean_around(a, 900)")["around"].weight, "stop")
        self.assertEqual(self.found([one] * 27)["many"].weight, "stop")
        self.assertEqual(self.found([one, away], expression="a + 1"), {})
        with self.assertRaisesMessage(InputError, "at column 3"):
            self.run_it([one], expression="a $")

    def test_what_cells_are(self) -> None:
        for expression, quantity in (("a > 1", "count"), ("a - b", "difference"), ("a +", "difference")):
            params = parse_params(self.operation, {"expression": expression, "quantity": "difference"})
            self.assertEqual(self.operation.outputs_for(params)["surface"].quantity, quantity)

    def test_too_large_numbers_are_empty(self) -> None:
        found = self.run_it([ArraySurface(A, GRID)], expression="a * 1e300 * 1e300").read_all()
        self.assertFalse(np.isinf(found).any())


class ChangeHeightsTest(SimpleTestCase):
    operation = find("change_heights")

    def run_it(self, surface: ArraySurface, geoid: ArraySurface | None = None, **params):
        taken = {"surface": surface, **({"geoid": geoid} if geoid else {})}
        return first_of(task_for(self.operation.name, taken, FRAME, params))

    def found(self, surface: ArraySurface, geoid: ArraySurface | None = None, **params) -> dict:
        taken = {"surface": surface, **({"geoid": geoid} if geoid else {})}
        return {one.code: one for one in task_for(self.operation.name, taken, FRAME, params).findings}

    def test_units_there_and_back(self) -> None:
        metres = ArraySurface(A, GRID)
        for unit, factor in (("ft", 0.3048), ("us-ft", 1200 / 3937)):
            feet = self.run_it(metres, to_unit=unit)
            self.assertEqual(feet.unit, unit)
            np.testing.assert_allclose(feet.read_all(), A / factor, rtol=1e-6)
            back = self.run_it(ArraySurface(feet.read_all(), GRID, unit), to_unit="m")
            np.testing.assert_allclose(back.read_all(), A, rtol=1e-5, atol=1e-5)
        wrongly_declared = self.run_it(ArraySurface(A / 0.3048, GRID), from_unit="ft")
        np.testing.assert_allclose(wrongly_declared.read_all(), A, rtol=1e-6)

    def test_a_geoid_and_an_offset(self) -> None:
        coarse = Grid(GRID.crs, GRID.west - 50, GRID.north + 50, 20.0, 20.0, 12, 12)
        x, y = np.meshgrid(coarse.x_of(np.arange(12)), coarse.y_of(np.arange(12)))
        geoid = ArraySurface(17 + 0.001 * (x - 1_000) - 0.002 * (y - 3_000), coarse)
        x, y = np.meshgrid(GRID.x_of(np.arange(50)), GRID.y_of(np.arange(40)))
        wanted = 17 + 0.001 * (x - 1_000) - 0.002 * (y - 3_000)
        down = self.run_it(ArraySurface(A, GRID), geoid, vertical_datum="mean sea level", offset=0.25)
        np.testing.assert_allclose(down.read_all(), A - wanted + 0.25, atol=1e-4)
        self.assertEqual(down.vertical_datum, "mean sea level")
        taken = {"surface": ArraySurface(A, GRID), "geoid": geoid}
        params = parse_params(self.operation, {"geoid": "add", "to_unit": "ft", "vertical_datum": "ellipsoid"})
        up = first_of(task_for(self.operation.name, taken, FRAME, params))
        np.testing.assert_allclose(up.read_all(), (A + wanted) / 0.3048, rtol=1e-5, atol=1e-3)

    def test_findings(self) -> None:
        one = ArraySurface(A, GRID)
        away = ArraySurface(A, Grid(GRID.crs, GRID.west + 9_000, GRID.north, 2.0, 2.0, 40, 50))
        self.assertEqual(self.found(one)["same"].weight, "stop")
        self.assertEqual(self.found(one, offset=1.0), {})
        self.assertEqual(self.found(one, to_unit="ft")["frame"].weight, "note")
        self.assertEqual(self.found(ArraySurface(A, GRID, "fathom"))["unit"].weight, "stop")
        self.assertEqual(self.found(one, away)["outside"].weight, "stop")
        self.assertEqual(self.found(one, ArraySurface(A, GRID, "ft"))["geoid_unit"].weight, "stop")
        self.assertEqual(self.found(one, ArraySurface(A, GRID))["name"].weight, "caution")
        with self.assertRaisesMessage(InputError, "Nothing would change"):
            self.run_it(one)
