"""The database lets nobody in but Yama: against the one that the tests run on, which is started as `./run` starts it."""

import os
import pwd
import subprocess
from pathlib import Path

import MySQLdb
from django.conf import settings
from django.db import connection
from django.test import TestCase


class DatabaseTest(TestCase):
    def refused(self, **who):
        with self.assertRaises(MySQLdb.OperationalError) as caught:
            MySQLdb.connect(host="127.0.0.1", port=int(settings.DATABASES["default"]["PORT"]), **who).close()
        self.assertIn(caught.exception.args[0], (1045, 1130, 1698))  # access denied

    def test_nobody_gets_in_over_the_network_without_the_password(self):
        me = pwd.getpwuid(os.geteuid()).pw_name
        for name in ("root", "mysql", "mariadb.sys", "", me, "yama"):
            self.refused(user=name, password="")
        self.refused(user="yama", password="guess")

    def test_it_reads_and_writes_no_files_for_anybody(self):
        with connection.cursor() as cursor:
            cursor.execute("SELECT @@secure_file_priv, @@local_infile, LOAD_FILE('/etc/passwd')")
            folder, local, content = cursor.fetchone()
            self.assertTrue(folder and Path(folder).is_dir() and not list(Path(folder).iterdir()))
            self.assertEqual((local, content), (0, None))
            cursor.execute("SHOW GRANTS")
            for (grant,) in cursor.fetchall():
                self.assertNotIn("FILE", grant)
                self.assertNotIn("*.*", grant.replace("USAGE ON *.*", ""))

    def test_another_user_of_the_machine_gets_in_by_no_socket(self):
        if os.geteuid() != 0:
            self.skipTest("only root can be somebody else")
        with connection.cursor() as cursor:
            cursor.execute("SELECT @@socket")
            (socket,) = cursor.fetchone()
        self.assertEqual(Path(socket).parent.stat().st_mode & 0o777, 0o700)
        told = subprocess.run(
            ["mariadb", "--no-defaults", f"--socket={socket}", "--user=root", "-e", "SELECT 1"],
            user="nobody", capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertNotEqual(told.returncode, 0)
        self.assertIn("ERROR", told.stderr)

    def test_what_lies_in_var_is_this_users_alone(self):
        var = settings.VAR_DIR
        for path in (var, var / "store", var / "log", var / "mariadb"):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)
        for path in (var / "log").iterdir():
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)
