"""Numbers that are typed in metres become what an operation computes with, once; and a method has its own parameters only."""

from typing import Annotated, Literal

from django.test import SimpleTestCase
from pydantic import Field

from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations.parameters import (
    UNTOLD,
    Choice,
    Degrees,
    GroundMetres,
    HeightMetres,
    Metres,
    OnlyWith,
    Params,
    SquaredHeightMetres,
    Titles,
    Unset,
    converted,
)  # fmt: skip

FOOT = 0.3048


class Lengths(Params):
    reach: Metres | None = None
    ground: GroundMetres = 5.0
    step: HeightMetres = 2.0
    nugget: SquaredHeightMetres = 4.0
    turn: Degrees = 30.0


class ConvertedTest(SimpleTestCase):
    def test_in_a_frame_in_metres_nothing_changes(self):
        frame = Frame(Grid("EPSG:32741", 448_000, 5_438_000, 1, 1, 10, 10), "m")
        typed = Lengths(reach=60.0)
        self.assertIs(converted(typed, frame), typed)

    def test_in_a_frame_in_feet_each_becomes_what_its_field_declares(self):
        feet = "+proj=utm +zone=41 +south +units=ft +type=crs"
        frame = Frame(Grid(feet, 448_000 / FOOT, 5_438_000 / FOOT, 3, 3, 10, 10), "ft")
        typed = Lengths(reach=60.0)
        made = converted(typed, frame)
        self.assertAlmostEqual(made.reach, 60 / FOOT, delta=0.1)  # a scale of 0.9996 and the like is of the CRS
        self.assertEqual((made.ground, made.turn), (5.0, 30.0))
        self.assertAlmostEqual(made.step, 2 / FOOT, places=9)
        self.assertAlmostEqual(made.nugget, 4 / FOOT**2, places=9)
        self.assertEqual((typed.reach, typed.step), (60.0, 2.0))  # what `check` sees is as it was typed

    def test_what_is_not_given_stays_so(self):
        frame = Frame(Grid("EPSG:4326", 75, -41, 1e-5, 1e-5, 10, 10), "ft")
        self.assertIsNone(converted(Lengths(), frame).reach)
        self.assertGreater(0.001, converted(Lengths(reach=60.0), frame).reach)

    def test_the_schema_tells_their_units(self):
        told = Lengths.described()["properties"]
        self.assertEqual({name: told[name].get("unit") for name in told},
                         {"reach": "m", "ground": "m", "step": "m", "nugget": "m²", "turn": "°"})  # fmt: skip


class Told(Params):
    method: Annotated[
        Literal["inverse_distance", "nearest"], Titles({"inverse_distance": "weighted"}, {"nearest": "As it stands."})
    ] = "nearest"
    reach: Annotated[Metres, Unset("none"), OnlyWith("whole", (True,))] | None = None
    whole: bool = False
    drawn: list[dict[str, int]] = Field([], title="areas drawn by hand")
    codes: list[str] | None = None
    order: Annotated[list[int], UNTOLD] = []


class InWordsTest(SimpleTestCase):
    def test_what_is_set_is_told_as_people_say_it(self):
        self.assertEqual(Told().in_words(), [])
        told = Told(
            method="inverse_distance",
            reach=60.0,
            whole=True,
            drawn=[{"a": 1}, {"b": 2}],
            codes=["spot", "bank_top"],
            order=[1, 0],
        )
        self.assertEqual(
            told.in_words(),
            [
                "Method: weighted",
                "Reach: 60\u202fm",
                "Whole: yes",
                "Areas drawn by hand: 2",
                "Codes: spot, bank top",
            ],
        )

    def test_the_schema_says_what_a_form_needs(self):
        told = Told.described()["properties"]
        self.assertEqual(told["method"]["titles"], {"inverse_distance": "weighted"})
        self.assertEqual(told["method"]["hints"], {"nearest": "As it stands."})
        reach = {key: told["reach"][key] for key in ("title", "unit", "unset", "only_with")}
        self.assertEqual(reach, {"title": "Reach", "unit": "m", "unset": "none", "only_with": {"whole": [True]}})

    def test_long_lists_are_told_by_their_length(self):
        self.assertEqual(Told(codes=[str(i) for i in range(40)]).in_words(), ["Codes: 40"])


class Path(Choice):
    method: Literal["straight", "bent"] = "straight"
    width: Metres = 1.0


class Straight(Path):
    method: Literal["straight"] = "straight"
    slope: float = 0.0


class Bent(Path):
    method: Literal["bent"]
    slope: float = 0.0
    radius: Metres = Field(50.0, gt=0)


Path.variants = {"straight": Straight, "bent": Bent}


class ChoiceTest(SimpleTestCase):
    def test_the_telling_parameter_says_which_there_are(self):
        self.assertIs(Path.fitting({}), Straight)
        self.assertIs(Path.fitting({"method": "bent"}), Bent)
        self.assertIs(Path.fitting({"method": "winding"}), Path)  # which refuses it

    def test_a_recipe_names_the_variant_unless_it_is_the_usual_one(self):
        self.assertEqual(Straight(slope=2.0).told(), {"slope": 2.0})
        self.assertEqual(Bent(method="bent", width=3.0).told(), {"method": "bent", "width": 3.0})

    def test_what_another_variant_knows_is_dropped_and_what_none_knows_is_kept_to_be_refused(self):
        self.assertEqual(Path.without_others({"radius": 4, "slope": 1, "colour": 2}), {"slope": 1, "colour": 2})
        self.assertEqual(Path.without_others({"method": "bent", "radius": 4}), {"method": "bent", "radius": 4})

    def test_the_schema_has_all_and_says_which_variants_have_each(self):
        told = Path.described()["properties"]
        self.assertEqual(set(told), {"method", "width", "slope", "radius"})
        self.assertEqual(
            [told[name].get("only_with") for name in told],
            [None, None, {"method": ["straight", "bent"]}, {"method": ["bent"]}],
        )
        self.assertEqual(told["radius"]["unit"], "m")
