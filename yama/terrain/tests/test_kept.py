"""Things kept a while: each made once, whatever threads ask and whenever."""

import threading
from concurrent.futures import ThreadPoolExecutor

from django.test import SimpleTestCase

from yama.terrain.kept import Kept


class KeptTest(SimpleTestCase):
    def test_nobody_who_comes_between_making_and_keeping_makes_it_again(self):
        kept: Kept[str, int] = Kept(8)
        made: list[int] = []

        class Watched(dict):
            """Has somebody ask for the thing just when its maker lets go of it."""

            def pop(self, key, *default):
                asked.append(threading.Thread(target=lambda: kept.get("a", make)))
                asked[0].start()
                return super().pop(key, *default)

        class Polite:
            """A lock whose holder lets the one who asked go first."""

            def __init__(self) -> None:
                self.lock = threading.Lock()

            def __enter__(self) -> None:
                self.lock.acquire()

            def __exit__(self, *_: object) -> None:
                self.lock.release()
                if asked and threading.current_thread() is not asked[0]:
                    asked[0].join(2)

        asked: list[threading.Thread] = []

        def make() -> int:
            made.append(1)
            return 7

        kept._making, kept._lock = Watched(), Polite()  # type: ignore[assignment]
        self.assertEqual(kept.get("a", make), 7)
        asked[0].join()
        self.assertEqual(made, [1])

    def test_many_threads_make_each_once(self):
        kept: Kept[int, int] = Kept(500)
        made: list[int] = []

        def ask(key: int) -> int:
            return kept.get(key, lambda: made.append(key) or key)

        with ThreadPoolExecutor(8) as pool:
            found = list(pool.map(ask, [key for key in range(400) for _ in range(8)]))
        self.assertEqual(found, [key for key in range(400) for _ in range(8)])
        self.assertEqual(sorted(made), list(range(400)))

    def test_what_cannot_be_made_is_asked_for_again(self):
        kept: Kept[str, int] = Kept(2)
        with self.assertRaises(ZeroDivisionError):
            kept.get("a", lambda: 1 // 0)
        self.assertEqual(kept.get("a", lambda: 3), 3)
        self.assertEqual(kept._making, {})
