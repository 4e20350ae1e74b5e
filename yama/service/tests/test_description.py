"""The description of the API, from which the desk's types are made."""

from collections.abc import Iterator

from django.test import SimpleTestCase
from ninja import Schema

from yama.service import api


def _below(kind: type[Schema]) -> Iterator[type[Schema]]:
    for one in kind.__subclasses__():
        yield one
        yield from _below(one)


class DescriptionTest(SimpleTestCase):
    def test_every_schema_has_a_name_of_its_own(self):
        """Of two with one name only one would be described."""
        self.assertTrue(api.api.get_openapi_schema()["components"])
        places: dict[str, set[str]] = {}
        for one in _below(Schema):
            if one.__module__.startswith("yama."):
                places.setdefault(one.__name__, set()).add(one.__module__)
        self.assertGreater(len(places), 100)
        self.assertEqual({name: found for name, found in places.items() if len(found) > 1}, {})
