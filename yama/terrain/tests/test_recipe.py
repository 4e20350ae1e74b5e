"""The graph of steps: what lies below a key, and steps on other inputs."""

from django.test import SimpleTestCase

from yama.terrain.recipe import Step, below, with_instead


class LineageTest(SimpleTestCase):
    def setUp(self):
        def step(*sources):
            return Step("difference", 1, {}, {"first": list(sources[:1]), "second": list(sources[1:])}, None)

        self.steps = {"d": step("c", "b"), "b": step("a"), "c": step("b", "a"), "x": step("y"), "e": step("d")}

    def test_what_is_below_comes_after_what_it_is_made_from(self):
        self.assertEqual(below("a", self.steps), ["b", "c", "d", "e"])
        self.assertEqual(below("c", self.steps), ["d", "e"])
        self.assertEqual(below("e", self.steps), [])

    def test_a_step_on_other_inputs_is_another_step(self):
        made = with_instead(self.steps["c"], {"a": "A", "z": "Z"}, 2)
        self.assertEqual((made.inputs, made.version), ({"first": ["b"], "second": ["A"]}, 2))
        self.assertNotEqual(made.key, self.steps["c"].key)
        self.assertEqual(with_instead(made, {"A": "a"}, 1).key, self.steps["c"].key)
