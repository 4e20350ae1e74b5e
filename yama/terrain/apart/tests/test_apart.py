"""Work in a child: what it may, what it may not, and how it ends."""

import os
import pickle
import socket
import tempfile
import threading
import time
from pathlib import Path
from unittest import mock

import pyogrio
import rasterio
from django.test import SimpleTestCase

from yama.terrain import apart, drivers
from yama.terrain.apart import Effort, call
from yama.terrain.apart.confine import confine, version
from yama.terrain.apart.messages import Done, loads
from yama.terrain.apart.tests import work
from yama.terrain.errors import CancelledError, InputError


def ask(function, *args, **more):
    return call(function, *args, **{"effort": Effort(), "about": "sheet.csv", **more})


def is_alive(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return False


class CallTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def test_what_a_function_returns_and_how_far_it_is(self):
        self.assertEqual(ask(work.echo, {"heights": [1.5, None]}), {"heights": [1.5, None]})
        shares = []
        ask(work.steps, progress=shares.append)
        self.assertEqual(shares, sorted(shares))
        self.assertGreater(len(set(shares)), 3)

    def test_errors_of_the_core_come_through_and_others_are_a_sentence_too(self):
        with self.assertRaisesMessage(InputError, "There is no height in it."):
            ask(work.refuse)
        with self.assertRaisesMessage(InputError, "of a form that is not known here (ZeroDivisionError)"):
            ask(work.broken)
        with self.assertRaisesMessage(InputError, "The server's disk is full"):
            ask(work.full)

    def test_a_child_that_breaks_is_a_sentence_and_the_next_one_works(self):
        with self.assertRaisesMessage(InputError, "sheet.csv cannot be read"):
            ask(work.crash)
        self.assertEqual(ask(work.echo, 4), 4)

    def test_too_much_time_and_too_much_memory(self):
        with self.assertRaisesMessage(InputError, "sheet.csv was given up"):
            ask(work.busy, effort=Effort(seconds=0.3))
        with self.assertRaisesMessage(InputError, "needs more than the 200 MB"):
            ask(work.greedy, effort=Effort(memory=200_000_000))

    def test_cancelling_kills_it_though_it_tells_nothing(self):
        told = self.folder / "pid"

        def progress(_share):
            if told.exists() and told.read_text():
                raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            ask(work.told_and_busy, str(told), folder=self.folder, progress=progress)
        until = time.monotonic() + 10
        while is_alive(int(told.read_text())) and time.monotonic() < until:
            time.sleep(0.02)  # the system takes it apart
        self.assertFalse(is_alive(int(told.read_text())))

    def test_waiting_for_a_nursery_that_loads_hears_cancelling(self):
        apart._nursery.stop()
        asked = []

        def progress(_share):
            asked.append(1)
            if len(asked) > 2:
                raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            ask(work.echo, 1, progress=progress)
        self.assertEqual(ask(work.echo, 2), 2)

    def test_only_so_many_at_once(self):
        with mock.patch.object(apart, "_places", threading.BoundedSemaphore(1)):
            apart._places.acquire()
            released = threading.Timer(0.3, apart._places.release)
            released.start()
            waited = []
            self.assertEqual(ask(work.echo, 3, progress=waited.append), 3)
            self.assertGreater(len(waited), 1)

    def test_a_nursery_that_was_lost_is_replaced(self):
        self.assertEqual(ask(work.echo, 1), 1)
        apart._nursery._process.kill()
        apart._nursery._process.wait()
        self.assertEqual(ask(work.echo, 2), 2)

    def test_it_has_no_secrets(self):
        with mock.patch.dict(os.environ, {"YAMA_DB_PASSWORD": "x", "DEPOT_CONTROL": "y", "DJANGO_SECRET": "z"}):
            apart._nursery.stop()
            told = ask(work.environment)
        apart._nursery.stop()
        self.assertEqual([name for name in told if name.startswith(("YAMA_DB", "YAMA_SECRET", "DEPOT", "DJANGO"))], [])
        self.assertIn("PATH", told)

    def test_it_opens_its_file_and_its_folder_and_nothing_else(self):
        if version() < 4:
            self.skipTest("this kernel's Landlock is missing or older than what keeps a process from connecting")
        mine, other = self.folder / "mine.txt", self.folder / "other.txt"
        mine.write_text("heights")
        other.write_text("secret")
        inside = self.folder / "inside"
        inside.mkdir()
        self.assertEqual(ask(work.read, str(mine), reads=[mine]), "heights")
        self.assertTrue(ask(work.write, str(inside / "made"), folder=inside))
        for function, path in ((work.read, other), (work.read, "/etc/passwd"), (work.write, self.folder / "made")):
            with self.assertRaisesMessage(InputError, "PermissionError"):
                ask(function, str(path), reads=[mine], folder=inside)
        with socket.socket() as heard:
            heard.bind(("127.0.0.1", 0))
            heard.listen()
            self.assertNotEqual(ask(work.connect, heard.getsockname()[1]), 0)

    def test_without_landlock_nothing_is_confined_and_nothing_breaks(self):
        with mock.patch("ctypes.CDLL") as library:
            library.return_value.syscall.return_value = -1
            self.assertFalse(confine(["/etc/hostname"], []))


class MessagesTest(SimpleTestCase):
    def test_a_child_cannot_have_its_caller_run_anything(self):
        class Evil:
            def __reduce__(self):
                return os.system, ("true",)

        with self.assertRaisesMessage(pickle.UnpicklingError, "is nothing that a reader says"):
            loads(pickle.dumps(Done(Evil())))
        self.assertEqual(loads(pickle.dumps(Done([1, "a"]))), Done([1, "a"]))


class DriversTest(SimpleTestCase):
    def test_a_child_has_only_the_drivers_that_are_used(self):
        rasters, vectors = ask(work.drivers)
        self.assertEqual([name for name in (*rasters, *vectors) if not drivers.is_kept(name)], [])
        self.assertLessEqual({"GTiff", "COG", "AAIGrid", "netCDF"}, set(rasters))
        self.assertLessEqual({"GPKG", "Shapefile", "GeoJSON", "KML", "GPX"}, {name.split()[-1] for name in vectors})

    def test_no_process_has_drivers_that_point_elsewhere(self):
        with rasterio.Env() as held:
            self.assertEqual(set(held.drivers()) & set(drivers._POINTING), set())
        self.assertEqual(set(pyogrio.list_drivers()) & set(drivers._POINTING), set())


class ForkedHereTest(SimpleTestCase):
    def test_a_child_that_cannot_start_ends_and_says_why(self):
        with mock.patch.object(drivers, "keep_only_known", side_effect=RuntimeError("no drivers")):
            line = apart._Here(0.0).child()
        with line, self.assertRaises(EOFError):
            line.recv_bytes()
