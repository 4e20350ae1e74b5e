import random
from dataclasses import replace
from fractions import Fraction

from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.mend.stack import (
    Change,
    Said,
    checked,
    entries_of,
    meddled,
    params_of,
    place_before,
    redoable,
    undoable,
)

_RING = [(0.0, 0.0), (10.0, 0.0), (10.0, 10.0)]


def _patch(name, **more):
    return checked("patch", {"name": name, "ring": _RING, "operator": {"kind": "height", "height": 1.0}} | more)


def _told(changes):
    return [(one.name, one.content["name"], one.content["on"]) for one in entries_of(changes)]


class Log:
    """A log as the service keeps it: what a new change makes of what its maker has undone."""

    def __init__(self):
        self.changes = []

    def say(self, by, says):
        self.changes = [one for one in self.changes if not (one.undone and one.by == by)]
        number = max((one.number for one in self.changes), default=0) + 1
        self.changes.append(Change(number, by, says))

    def _mark(self, change, undone):
        if change is None or meddled(self.changes, change):
            return False
        self.changes = [replace(one, undone=undone) if one is change else one for one in self.changes]
        return True

    def undo(self, by):
        return self._mark(undoable(self.changes, by), True)

    def redo(self, by):
        return self._mark(redoable(self.changes, by), False)


class Twin:
    """The same by the obvious way: a list that is changed, and copies of it to go back to."""

    def __init__(self):
        self.now, self.before, self.after = [], [], []

    def do(self, what):
        self.before.append([list(one) for one in self.now])
        self.after = []
        what(self.now)

    def undo(self):
        if self.before:
            self.after.append(self.now)
            self.now = self.before.pop()

    def redo(self):
        if self.after:
            self.before.append(self.now)
            self.now = self.after.pop()


class EntriesTest(SimpleTestCase):
    def test_any_order_of_changes_undo_and_redo_gives_what_building_it_straight_gives(self):
        for seed in range(60):
            rng, log, twin = random.Random(seed), Log(), Twin()
            for step in range(60):
                held, entries = twin.now, entries_of(log.changes)
                deed = rng.choice(["add", "add", "move", "switch", "remove", "undo", "undo", "redo"])
                i = rng.randrange(len(held)) if held else 0
                j = rng.randrange(len(held) + 1)
                before = entries[j].name if j < len(entries) else None
                if deed == "add":
                    name = f"e{step}"
                    log.say(1, {name: Said("patch", _patch(name), place_before(entries, before))})
                    twin.do(lambda now, name=name, j=j: now.insert(j, [name, name, True]))
                elif deed == "undo":
                    self.assertEqual(log.undo(1), bool(twin.before))
                    twin.undo()
                elif deed == "redo":
                    self.assertEqual(log.redo(1), bool(twin.after))
                    twin.redo()
                elif held and deed == "move":
                    rest = [one for one in entries if one is not entries[i]]
                    k = rng.randrange(len(held))
                    place = place_before(rest, rest[k].name if k < len(rest) else None)
                    log.say(1, {held[i][0]: Said(place=place)})
                    twin.do(lambda now, i=i, k=k: now.insert(k, now.pop(i)))
                elif held and deed == "switch":
                    on = not held[i][2]
                    log.say(1, {held[i][0]: Said(content=entries[i].content | {"on": on})})
                    twin.do(lambda now, i=i, on=on: now[i].__setitem__(2, on))
                elif held and deed == "remove":
                    log.say(1, {held[i][0]: Said(gone=True)})
                    twin.do(lambda now, i=i: now.pop(i))
                self.assertEqual(_told(log.changes), [tuple(one) for one in twin.now], (seed, step, deed))

    def test_what_is_kept_as_json_is_what_was_said(self):
        said = Said("patch", _patch("one"), Fraction(7, 3))
        self.assertEqual(Said.from_dict(said.to_dict()), said)
        self.assertEqual(Said(gone=True).to_dict(), {"gone": True})

    def test_between_two_entries_there_is_always_a_place(self):
        log = Log()
        log.say(1, {"low": Said("patch", _patch("low"), Fraction(0))})
        log.say(1, {"high": Said("patch", _patch("high"), Fraction(1))})
        for number in range(200):  # always at the same spot, which halves of floats would not survive
            name = f"e{number}"
            log.say(1, {name: Said("patch", _patch(name), place_before(entries_of(log.changes), "high"))})
        names = [one.name for one in entries_of(log.changes)]
        self.assertEqual(names, ["low", *(f"e{n}" for n in range(200)), "high"])

    def test_patches_and_keep_outs_become_the_operations_parameters(self):
        log = Log()
        log.say(1, {"k": Said("keep_out", checked("keep_out", {"name": "House", "ring": _RING}), Fraction(5))})
        log.say(1, {"p": Said("patch", _patch("Deck"), Fraction(1))})
        params = params_of(entries_of(log.changes))
        self.assertEqual([one["name"] for one in params["patches"]], ["Deck"])
        self.assertEqual([one["name"] for one in params["keep_outs"]], ["House"])


class SeveralPeopleTest(SimpleTestCase):
    def setUp(self):
        self.log = Log()
        self.log.say(1, {"a": Said("patch", _patch("a"), Fraction(0))})
        self.log.say(2, {"b": Said("patch", _patch("b"), Fraction(1))})

    def test_each_undoes_their_own(self):
        self.assertTrue(self.log.undo(1))
        self.assertEqual([one.name for one in entries_of(self.log.changes)], ["b"])
        self.assertFalse(self.log.undo(1))
        self.assertTrue(self.log.redo(1))
        self.assertEqual([one.name for one in entries_of(self.log.changes)], ["a", "b"])

    def test_what_somebody_else_changed_since_is_not_undone(self):
        self.log.say(2, {"a": Said(content=_patch("a", note="looked at"))})
        self.assertEqual(meddled(self.log.changes, self.log.changes[0]), ("a", 2))
        self.assertFalse(self.log.undo(1))
        self.assertTrue(self.log.undo(2))
        self.assertTrue(self.log.undo(1))

    def test_a_new_change_ends_what_could_be_done_again_of_its_maker_only(self):
        self.log.undo(1)
        self.log.undo(2)
        self.log.say(1, {"c": Said("patch", _patch("c"), Fraction(3))})
        self.assertFalse(self.log.redo(1))
        self.assertTrue(self.log.redo(2))


class CheckedTest(SimpleTestCase):
    def test_what_is_wrong_is_said_with_the_patchs_name(self):
        with self.assertRaisesMessage(InputError, "Deck cannot be taken: times"):
            _patch("Deck", times=50)
        with self.assertRaisesMessage(InputError, "Deck cannot be taken: height height"):
            checked("patch", {"name": "Deck", "ring": _RING, "operator": {"kind": "height"}})
