"""Conditions on attributes: what they find, and where they are wrong; the desk is tested with the same ones."""

import json
from pathlib import Path

from django.test import SimpleTestCase

from yama.terrain.condition import ConditionError, condition, meeting

SHARED = json.loads((Path(__file__).parent / "data" / "conditions.json").read_text(encoding="utf-8"))
COLUMNS = list(SHARED["rows"][0])


class ConditionTest(SimpleTestCase):
    def test_finds_what_it_says(self):
        for text, wanted in SHARED["cases"]:
            with self.subTest(text):
                test = condition(text, COLUMNS)
                self.assertEqual([i for i, row in enumerate(SHARED["rows"]) if test(row)], wanted)

    def test_says_where_it_is_wrong(self):
        for text, at, words in SHARED["wrong"]:
            with self.subTest(text), self.assertRaisesMessage(ConditionError, words) as caught:
                condition(text, COLUMNS)
            self.assertEqual(caught.exception.at, at)

    def test_is_refused_where_it_is_too_long_or_too_deep(self):
        with self.assertRaisesMessage(ConditionError, "longer than"):
            condition("width > 1" + " " * 3_000, COLUMNS)
        with self.assertRaisesMessage(ConditionError, "stand in each other"):
            condition("(" * 200 + "width > 1" + ")" * 200, COLUMNS)

    def test_columns_of_features_are_looked_at_row_by_row(self):
        attributes = {name: [row[name] for row in SHARED["rows"]] for name in COLUMNS}
        self.assertEqual(meeting("width > 2", attributes, 4).tolist(), [True, True, False, False])
        self.assertEqual(meeting('kind = "river"', {"kind": []}, 0).tolist(), [])
