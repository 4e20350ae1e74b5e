"""Edits of lines and polygons: each does what it says, and the list of them gives the same every time."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from django.test import SimpleTestCase
from pydantic import TypeAdapter

from yama.terrain.editing import Edit, Edited, chained, nearest_ends, parts_of, snapped, title_of
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.tests.places import LOCAL

FRAME = LOCAL
_EDIT: TypeAdapter[Any] = TypeAdapter(Edit)


def features(*shapes: Any, crs: str = FRAME, **columns: list[Value]) -> Features:
    return Features(crs, np.array(shapes, dtype=object), columns)


def edited(held: Features, *edits: dict[str, Any]) -> Edited:
    return Edited.of(held).apply(_EDIT.validate_python(edit) for edit in edits)


LINE = shapely.LineString([(0, 0), (10, 0), (20, 0)])
SQUARE = shapely.Polygon([(0, 0), (4, 0), (4, 4), (0, 4)])


class Vertices(SimpleTestCase):
    """Vertices are moved, added and taken away."""

    def test_moving_a_vertex_moves_that_one_alone(self) -> None:
        moved = edited(features(LINE), {"kind": "move_vertex", "feature": 0, "vertex": 1, "x": 10, "y": 5})
        self.assertEqual(list(moved.get(0).coords), [(0, 0), (10, 5), (20, 0)])

    def test_heights_stay_with_their_vertices(self) -> None:
        line = shapely.LineString([(0, 0, 5), (10, 0, 7), (20, 0, 9)])
        moved = edited(features(line), {"kind": "move_vertex", "feature": 0, "vertex": 1, "x": 10, "y": 5})
        self.assertEqual(list(moved.get(0).coords), [(0, 0, 5), (10, 5, 7), (20, 0, 9)])
        added = edited(features(line), {"kind": "add_vertex", "feature": 0, "vertex": 0, "x": 2.5, "y": 0})
        self.assertEqual(added.get(0).coords[1], (2.5, 0, 5.5))

    def test_a_ring_stays_closed(self) -> None:
        for vertex in (0, 4):
            moved = edited(features(SQUARE), {"kind": "move_vertex", "feature": 0, "vertex": vertex, "x": -1, "y": -1})
            ring = list(moved.get(0).exterior.coords)
            self.assertEqual((ring[0], ring[-1]), ((-1, -1), (-1, -1)))
            gone = edited(features(SQUARE), {"kind": "remove_vertex", "feature": 0, "vertex": vertex})
            self.assertTrue(gone.get(0).equals(shapely.Polygon([(4, 0), (4, 4), (0, 4)])))

    def test_a_part_of_several_is_named(self) -> None:
        holed = shapely.MultiPolygon([SQUARE, shapely.Polygon(
            [(10, 0), (20, 0), (20, 10), (10, 10)], [[(12, 2), (14, 2), (14, 4), (12, 4)]])])  # fmt: skip
        moved = edited(features(holed), {"kind": "move_vertex", "feature": 0, "part": 2, "vertex": 1, "x": 15, "y": 2})
        self.assertEqual(moved.get(0).geoms[1].interiors[0].coords[1], (15, 2))
        self.assertEqual(len(parts_of(moved.get(0))), 3)

    def test_what_is_not_there_is_refused(self) -> None:
        triangle = shapely.Polygon([(0, 0), (4, 0), (4, 4)])
        for edit in (
            {"kind": "move_vertex", "feature": 7, "vertex": 0, "x": 0, "y": 0},
            {"kind": "move_vertex", "feature": 0, "vertex": 3, "x": 0, "y": 0},
            {"kind": "move_vertex", "feature": 0, "part": 1, "vertex": 0, "x": 0, "y": 0},
            {"kind": "add_vertex", "feature": 0, "vertex": 2, "x": 0, "y": 0},
            {"kind": "remove_vertex", "feature": 1, "vertex": 0},
            {"kind": "remove_vertex", "feature": 2, "vertex": 0},
            {"kind": "remove", "features": [0, 9]},
        ):
            with self.subTest(edit), self.assertRaises(InputError):
                edited(
                    features(LINE, LINE.segmentize(100), triangle),
                    {"kind": "remove_vertex", "feature": 1, "vertex": 0},
                    edit,
                )


class Lines(SimpleTestCase):
    """Lines are split, joined and dissolved."""

    def test_split_gives_two_lines_that_meet(self) -> None:
        made = edited(features(LINE, name=["Avel"]), {"kind": "split", "feature": 0, "vertex": 1})
        self.assertEqual([list(made.get(number).coords) for number in (0, 1)], [[(0, 0), (10, 0)], [(10, 0), (20, 0)]])
        self.assertEqual(made.features().attributes["name"], ["Avel", "Avel"])

    def test_join_puts_a_cut_line_together_again(self) -> None:
        """Whatever the order and direction of its pieces."""
        random = np.random.default_rng(5)
        for _ in range(20):
            whole = np.cumsum(random.uniform(1, 5, (30, 2)), axis=0)
            cuts = [0, *sorted(random.choice(np.arange(1, 29), 6, replace=False)), 29]
            pieces = [whole[a : b + 1] for a, b in zip(cuts, cuts[1:], strict=False)]
            pieces = [piece[::-1] if random.random() < 0.5 else piece for piece in pieces]
            random.shuffle(pieces)  # type: ignore[arg-type]
            made = edited(features(*map(shapely.LineString, pieces)), {"kind": "join", "features": list(range(7))})
            self.assertEqual(len(made.features()), 1)
            (number,) = made.geometries
            found = shapely.get_coordinates(made.get(number))
            self.assertTrue(np.array_equal(found, whole) or np.array_equal(found, whole[::-1]))

    def test_join_takes_the_nearest_ends_and_no_wider_gap(self) -> None:
        rivers = features(
            shapely.LineString([(0, 0), (100, 0)]), shapely.LineString([(104, 0), (150, 0)]),
            shapely.LineString([(102, 3), (102, 30)]), shapely.LineString([(400, 0), (500, 0)]),
            name=["Avel", "Avell", "side", "far"],
        )  # fmt: skip
        made = edited(rivers, {"kind": "join", "features": [0, 1, 2, 3], "gap": 3.9})
        self.assertEqual(sorted(made.geometries), [0, 1, 3])  # 0 and 2 lie 3.6 m apart, 0 and 1 lie 4 m
        self.assertEqual(list(made.get(0).coords), [(0, 0), (100, 0), (102, 3), (102, 30)])
        self.assertEqual(made.rows[0]["name"], "Avel")
        self.assertIn("3 lines remain", " ".join(made.said))
        with self.assertRaisesRegex(InputError, "nearest two are 300.0 m apart. Allow a wider gap"):
            edited(rivers, {"kind": "join", "features": [0, 3], "gap": 50})

    def test_the_nearest_ends_of_different_lines_are_found_however_far(self) -> None:
        def apart(*lines: list[tuple[float, float]]) -> float:
            return nearest_ends([np.array(line, float) for line in lines], lambda x, y: (1.0, 1.0))

        self.assertEqual(apart([(0, 0), (0.5, 0)], [(70_000.5, 0), (70_001, 0)]), 70_000)  # own ends are nearer
        self.assertEqual(apart([(0, 0), (5, 5)], [(5, 5), (9, 0)]), 0)
        self.assertEqual(apart([(0, 0), (5, 5)]), np.inf)

    def test_a_gap_is_in_metres_in_degrees_too(self) -> None:
        one = shapely.LineString([(62.4, -41.2), (62.41, -41.2)])
        other = shapely.LineString([(62.4101, -41.2), (62.42, -41.2)])  # 8.4 m on
        made = edited(features(one, other, crs="EPSG:4326"), {"kind": "join", "features": [0, 1], "gap": 9})
        self.assertEqual(len(made.geometries), 1)
        with self.assertRaises(InputError):
            edited(features(one, other, crs="EPSG:4326"), {"kind": "join", "features": [0, 1], "gap": 8})

    def test_chains_agree_with_an_obvious_search(self) -> None:
        random = np.random.default_rng(11)
        for _ in range(30):
            lines = [random.uniform(0, 40, (2, 2)) for _ in range(12)]
            chains, joints = chained(lines, 6.0, lambda x, y: (1.0, 1.0))
            ends = [(i, at) for i in range(12) for at in (0, 1)]
            options = sorted(
                (float(np.hypot(*(lines[a[0]][-a[1]] - lines[b[0]][-b[1]]))), a, b)
                for a in ends for b in ends if a < b and a[0] != b[0]
            )  # fmt: skip
            taken: set[tuple[int, int]] = set()
            group = list(range(12))
            expected = 0
            for distance, a, b in options:
                if distance > 6.0 or a in taken or b in taken or group[a[0]] == group[b[0]]:
                    continue
                taken |= {a, b}
                old, new = group[b[0]], group[a[0]]
                group = [new if one == old else one for one in group]
                expected += 1
            self.assertEqual(len(joints), expected)
            self.assertEqual(
                {frozenset(line for line, _ in chain) for chain in chains},
                {frozenset(i for i in range(12) if group[i] == one) for one in set(group)},
            )

    def test_dissolve_makes_one_of_several(self) -> None:
        other = shapely.Polygon([(4, 0), (8, 0), (8, 4), (4, 4)])
        made = edited(
            features(SQUARE, other, cover=["wood", "wood"], age=[1, 2]), {"kind": "dissolve", "features": [0, 1]}
        )
        self.assertTrue(made.get(0).equals(shapely.box(0, 0, 8, 4)))
        self.assertEqual(made.rows[0], {"cover": "wood", "age": None})
        self.assertIn("age", " ".join(made.said))
        with self.assertRaisesRegex(InputError, "of one kind"):
            edited(features(SQUARE, LINE), {"kind": "dissolve", "features": [0, 1]})

    def test_dissolved_lines_that_meet_are_one_line(self) -> None:
        halves = features(shapely.LineString([(0, 0), (5, 5)]), shapely.LineString([(9, 1), (5, 5)]))
        made = edited(halves, {"kind": "dissolve", "features": [0, 1]})
        self.assertEqual(made.get(0).geom_type, "LineString")
        apart = features(LINE, shapely.LineString([(50, 50), (60, 60)]))
        made = edited(apart, {"kind": "dissolve", "features": [0, 1]})
        self.assertEqual(len(made.get(0).geoms), 2)
        self.assertIn("2 parts", " ".join(made.said))


class Others(SimpleTestCase):
    """Deleting, drawing, values, and the list as a whole."""

    def test_values_keep_the_kind_of_their_column(self) -> None:
        contours = features(LINE, LINE, elevation=[10, 30])
        made = edited(contours, {"kind": "set_value", "features": [1], "column": "elevation", "value": 20})
        self.assertEqual(made.features().attributes["elevation"], [10, 20])
        for column, value in (("elevation", "twenty"), ("name", "x")):
            with self.subTest(column), self.assertRaises(InputError):
                edited(contours, {"kind": "set_value", "features": [1], "column": column, "value": value})

    def test_drawn_features_are_numbered_after_the_last(self) -> None:
        made = edited(
            features(LINE, name=["a"]),
            {"kind": "remove", "features": [0]},
            {"kind": "draw", "shape": "polygon", "places": [[0, 0], [5, 0], [5, 5]]},
        )
        self.assertEqual((list(made.geometries), made.rows[1]), ([1], {"name": None}))
        with self.assertRaises(InputError):
            edited(features(LINE), {"kind": "draw", "shape": "line", "places": [[0, 0], [0, 0]]})

    def test_the_untouched_features_stay(self) -> None:
        held = features(LINE, SQUARE, name=["a", "b"])
        edited(held, {"kind": "remove", "features": [0]}, {"kind": "set_value", "features": [1], "column": "name", "value": "c"},
               {"kind": "move_vertex", "feature": 1, "vertex": 0, "x": -9, "y": -9})  # fmt: skip
        self.assertEqual((len(held), held.attributes["name"]), (2, ["a", "b"]))
        self.assertTrue(held.geometries[1].equals(SQUARE))

    def test_every_edit_says_what_it_is(self) -> None:
        said = [
            title_of(_EDIT.validate_python(edit))
            for edit in (
                {"kind": "remove", "features": [0]}, {"kind": "join", "features": [1, 2], "gap": 25},
                {"kind": "dissolve", "features": [1, 2, 3]}, {"kind": "split", "feature": 4, "vertex": 2},
                {"kind": "set_value", "features": [1], "column": "elevation", "value": 20},
                {"kind": "draw", "shape": "line", "places": [[0, 0], [1, 1]]},
            )
        ]  # fmt: skip
        self.assertEqual(said, ["Delete 1 feature", "Join 2 lines over 25 m", "Dissolve 3 features into one", "Split no. 5",
                                "Set elevation of 1 feature", "Draw a line"])  # fmt: skip


class Snapping(SimpleTestCase):
    """A place snaps to a vertex first, then to a line, and never to the feature that is moved."""

    def test_vertices_come_before_lines(self) -> None:
        held = Edited.of(features(LINE, SQUARE))
        self.assertEqual(snapped(held, [(10.5, 0.2)], 1.0, besides=1), [(10, 0)])
        self.assertEqual(snapped(held, [(14.0, 0.2)], 1.0), [(14, 0)])
        self.assertEqual(snapped(held, [(14.0, 2.2)], 1.0), [(14.0, 2.2)])
        self.assertEqual(snapped(held, [(14.0, 0.2)], 1.0, besides=0), [(14.0, 0.2)])

    def test_the_nearest_spot_is_the_nearest(self) -> None:
        random = np.random.default_rng(3)
        line = shapely.LineString(random.uniform(0, 100, (40, 2)))
        held = Edited.of(features(line))
        for x, y in random.uniform(0, 100, (50, 2)):
            spot = shapely.Point(snapped(held, [(x, y)], 500.0)[0])
            vertices = shapely.MultiPoint(list(line.coords))
            self.assertAlmostEqual(spot.distance(shapely.Point(x, y)), vertices.distance(shapely.Point(x, y)), 9)
        far = shapely.LineString([(0, 0), (100, 0)])
        self.assertEqual(snapped(Edited.of(features(far)), [(40.0, 3.0)], 5.0), [(40, 0)])

    def test_many_places_at_once_are_each_as_alone(self) -> None:
        random = np.random.default_rng(5)
        lines = [shapely.LineString(random.uniform(0, 400, (12, 2))) for _ in range(9)]
        held = Edited.of(features(*lines))
        places = [(float(x), float(y)) for x, y in random.uniform(0, 400, (300, 2))]
        together = snapped(held, places, 9.0)
        alone = [snapped(held, [place], 9.0)[0] for place in places]
        np.testing.assert_allclose(together, alone, atol=1e-6)
        vertices = {(x, y) for line in lines for x, y in line.coords}
        spots = [shapely.Point(spot) for spot in together]
        for place, spot, point in zip(places, together, spots, strict=True):
            near = min(np.hypot(x - place[0], y - place[1]) for x, y in vertices)
            if near <= 9:
                self.assertIn(spot, vertices, "a vertex is taken exactly")
            elif spot != place:
                self.assertLess(min(point.distance(line) for line in lines), 1e-6)
            else:
                self.assertGreater(min(point.distance(line) for line in lines), 9)
