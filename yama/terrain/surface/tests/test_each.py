import threading
import time

from django.test import SimpleTestCase

from yama.terrain.ending import go_on
from yama.terrain.errors import CancelledError
from yama.terrain.surface import each


class EachTest(SimpleTestCase):
    def test_what_is_made_keeps_its_order(self):
        def slow_first(number):
            time.sleep(0.02 if number == 0 else 0)
            return number**2

        told = []
        self.assertEqual(each(range(40), slow_first, told.append), [number**2 for number in range(40)])
        self.assertEqual((told, told[-1]), (sorted(told), 1.0))
        self.assertEqual(each([], slow_first), [])

    def test_what_fails_is_raised_and_no_more_is_begun(self):
        begun = []

        def fails(number):
            begun.append(number)
            if number == 3:
                raise ValueError("three")

        with self.assertRaisesRegex(ValueError, "three"):
            each(range(1000), fails)
        self.assertLess(len(begun), 100)

    def test_what_is_under_way_hears_of_a_cancel(self):
        ended = threading.Event()

        def endless(_):
            try:
                while True:
                    time.sleep(0.01)
                    go_on()
            except CancelledError:
                ended.set()
                raise

        def cancelled(share):
            raise CancelledError

        with self.assertRaises(CancelledError):
            each(range(4), endless, cancelled)
        self.assertTrue(ended.is_set())
