"""Starting: what is in the way gets a sentence that says what to do, and nothing is lost."""

import contextlib
import io
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import mock

from django.test import SimpleTestCase

from yama import launch
from yama.launch import StartError, drop, free_port, main, prepare


class LaunchTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.var = Path(held.name) / "var"
        # making a database's folder takes seconds and is done for real by every other test of the service
        installing = mock.patch.object(launch, "_install_database")
        self.install = installing.start()
        self.addCleanup(installing.stop)

    def run_main(self, *arguments):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main([*arguments, "--var", str(self.var)])
        return status, out.getvalue(), err.getvalue()


class PrepareTest(LaunchTest):
    def test_folders_secrets_and_ports_are_made(self):
        place = prepare(self.var, 0)
        self.assertEqual(
            {path.name for path in self.var.iterdir()}, {"store", "log", "redis", "mariadb-files", "secrets.json"}
        )
        for path in self.var.iterdir():
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)
        self.assertEqual((self.var / "secrets.json").stat().st_mode & 0o777, 0o600)
        self.assertEqual(len({place.port, place.db_port, place.redis_port}), 3)
        self.assertLess(len(str(place.sockets)), 60, "sockets have a limit on their names")
        again = prepare(self.var, 0)
        self.assertEqual(again.secret, place.secret)
        told = place.environment
        self.assertEqual(told["YAMA_DB_PASSWORD"], place.secret["database"])
        self.assertIn(place.secret["redis"], told["YAMA_REDIS_URL"])

    def test_a_taken_port_is_named_with_another_to_try(self):
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            port = other.getsockname()[1]
            status, _, err = self.run_main("--port", str(port))
        self.assertEqual(status, 1)
        self.assertIn(f"Port {port} is taken", err)
        self.assertIn(f"--port {port + 1}", err)

    def test_damaged_secrets_say_how_to_go_on(self):
        self.var.mkdir()
        for text in ("{", "{}", '{"database": "x"}'):
            (self.var / "secrets.json").write_text(text)
            with self.assertRaisesMessage(StartError, "./run --fresh"):
                prepare(self.var, 0)
            self.assertEqual((self.var / "secrets.json").read_text(), text, "it is left for the person to mend")

    def test_a_var_that_is_a_file(self):
        self.var.write_text("not a folder")
        with self.assertRaisesMessage(StartError, "cannot be made"):
            prepare(self.var, 0)

    def test_a_running_instance_is_not_started_twice(self):
        self.var.mkdir()
        sleeper = subprocess.Popen([sys.executable, "-c", "import sys, time; time.sleep(60)", "supervisord"])
        self.addCleanup(sleeper.wait)
        self.addCleanup(sleeper.kill)
        until = time.monotonic() + 10
        while b"supervisord" not in Path(f"/proc/{sleeper.pid}/cmdline").read_bytes() and time.monotonic() < until:
            time.sleep(0.01)  # for a moment a new process has no command line yet
        (self.var / "supervisord.pid").write_text(str(sleeper.pid))
        with self.assertRaisesMessage(StartError, "Yama is running from"):
            prepare(self.var, 0)
        with self.assertRaisesMessage(StartError, "Stop it before --fresh"):
            drop(self.var)

    def test_a_number_left_by_a_crash_is_no_running_instance(self):
        self.var.mkdir()
        for text in (str(os.getpid()), "999999999", "nonsense", ""):
            (self.var / "supervisord.pid").write_text(text)
            prepare(self.var, 0)

    def test_setup_only_starts_nothing(self):
        with mock.patch.object(launch.Instance, "start_stores") as start:
            status, out, _ = self.run_main("--setup-only", "--port", "0")
        self.assertEqual((status, start.called), (0, False))
        self.assertIn("Start with ./run", out)


class DatabaseFolderTest(LaunchTest):
    def test_a_strange_folder_is_not_touched(self):
        mock.patch.stopall()
        place = mock.Mock(var=self.var)
        (self.var / "mariadb").mkdir(parents=True)
        (self.var / "mariadb" / "letters.txt").write_text("keep me")
        with self.assertRaisesMessage(StartError, "is not a database folder"):
            launch._install_database(place)
        self.assertEqual((self.var / "mariadb" / "letters.txt").read_text(), "keep me")


class DropTest(LaunchTest):
    def test_fresh_drops_everything_but_compiled_kernels(self):
        prepare(self.var, 0)
        (self.var / "numba").mkdir()
        (self.var / "store" / "1").mkdir()
        (self.var / "store" / "1" / "cells.tif").write_text("x")
        drop(self.var)
        self.assertEqual([path.name for path in self.var.iterdir()], ["numba"])

    def test_a_link_is_removed_and_not_followed(self):
        self.var.mkdir()
        elsewhere = self.var.parent / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "mine.txt").write_text("mine")
        (self.var / "store").symlink_to(elsewhere)
        drop(self.var)
        self.assertTrue((elsewhere / "mine.txt").exists())


class FilesTest(LaunchTest):
    def test_the_description_of_processes_keeps_its_secret(self):
        place = prepare(self.var, 0)
        text = launch._supervisor_file(place).read_text()
        for name in ("mariadb", "redis", "web", "worker", "watch"):
            self.assertIn(f"[program:{name}]", text)
        self.assertNotIn(place.secret["database"], text)
        self.assertNotIn(place.secret["redis"], text)
        self.assertEqual((self.var / "redis.conf").stat().st_mode & 0o777, 0o600)
        self.assertIn("bind 127.0.0.1", (self.var / "redis.conf").read_text())
        self.assertIn("--bind-address=127.0.0.1", text)

    def test_a_process_that_does_not_start_shows_the_end_of_its_log(self):
        place = prepare(self.var, 0)
        (self.var / "log" / "redis.log").write_text("\n".join(f"line {i}" for i in range(30)))
        tail = launch._log_tail(place, "redis")
        self.assertIn("line 29", tail)
        self.assertNotIn("line 3\n", tail)

    def test_free_ports_are_free(self):
        port = free_port()
        self.assertFalse(launch._listening(port))
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", port))
            taken.listen()
            self.assertTrue(launch._listening(port))


class ScriptsTest(SimpleTestCase):
    def test_the_lock_has_every_package_that_is_asked_for(self):
        import re

        def names(path):
            lines = (launch.ROOT / path).read_text().splitlines()
            return {
                re.split(r"[=~<>\[]", line)[0].strip().lower().replace("_", "-")
                for line in lines
                if line and line[0] != "#"
            }

        self.assertLessEqual(names("requirements.in"), names("requirements.txt"))

    def test_no_lock_names_a_download_address(self):
        lock = json.loads((launch.ROOT / "web" / "package-lock.json").read_text())
        self.assertFalse([name for name, entry in lock["packages"].items() if "resolved" in entry])
        self.assertNotIn("http", (launch.ROOT / "requirements.txt").read_text())

    def test_scripts_are_sound_shell(self):
        for name in ("run", "test", ".ci/run", "scripts/setup.sh"):
            done = subprocess.run(["bash", "-n", launch.ROOT / name], capture_output=True, text=True, check=False)
            self.assertEqual(done.returncode, 0, done.stderr)
