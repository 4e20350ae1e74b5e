"""Start everything on loopback and stop it again: what `./run` does once the machine has what it needs.

Supervisord looks after the processes: database and broker first; then the schema and the demo; then the web server,
the worker and the watch over jobs. All of a start's files are under one folder (`var/`).
"""

from __future__ import annotations

import argparse
import json
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any

from yama import front

ROOT = Path(__file__).resolve().parents[1]
_UPLOAD_MB = int(os.environ.get("YAMA_MAX_UPLOAD_MB", "4096"))
_REQUEST_MB = 48
_STOP_SIGNALS = {"web": "INT", "depot": "INT", "worker": "QUIT", "front": "TERM"}
"""These end at once; a job cut off this way is started again by the watch at the next start."""


_FOLDERS = ("store", "log", "redis", "mariadb-files")
_UMASK = 0o077
_FALLS = 3
"""A process that has ended this often before it listened will not start."""


class StartError(Exception):
    """Why Yama cannot start, with what to do."""


@dataclass(frozen=True)
class Place:
    """Where an instance keeps its files, and the secrets and ports of this start."""

    var: Path
    port: int
    db_port: int
    redis_port: int
    depot_port: int
    secret: dict[str, str]

    @property
    def sockets(self) -> Path:
        """A short path for sockets, whose length the system limits."""
        return Path(tempfile.gettempdir()) / f"yama-{sha256(str(self.var).encode()).hexdigest()[:12]}"

    @property
    def web_socket(self) -> Path:
        """Where the front hands requests on. Its folder is this user's alone, so nobody else can speak as the front."""
        return self.sockets / "w.sock"

    @property
    def environment(self) -> dict[str, str]:
        """What the processes are told."""
        return {
            **os.environ,
            "PATH": f"{os.environ.get('PATH', '/usr/bin:/bin')}:/usr/sbin",  # where Debian keeps the database server
            "YAMA_VAR": str(self.var),
            "YAMA_SHELF": str(self.var / "shelf"),
            "YAMA_SOCKET": str(self.web_socket),
            "YAMA_DB_PORT": str(self.db_port),
            "YAMA_DB_PASSWORD": self.secret["database"],
            "YAMA_SECRET": self.secret["django"],
            "YAMA_REDIS_URL": f"redis://:{self.secret['redis']}@127.0.0.1:{self.redis_port}/0",
            "YAMA_DEPOT_URL": f"http://127.0.0.1:{self.depot_port}",
            "DEPOT_DIR": str(self.var / "demo" / "depot"),
            "DEPOT_CONTROL": self.secret["depot"],
            "DJANGO_SETTINGS_MODULE": "yama.service.settings",
            "NUMBA_CACHE_DIR": os.environ.get("NUMBA_CACHE_DIR", str(ROOT / "var" / "numba")),
            "PYTHONPATH": str(ROOT),
            "OMP_NUM_THREADS": "1",
            "UMASK": "0600",  # of the database's files
            "UMASK_DIR": "0700",
        }


def free_port() -> int:
    """A port on loopback that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _check_port(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except PermissionError as error:
            raise StartError(f"Port {port} may not be used by this user. Choose one above 1023 with --port.") from error
        except OSError as error:
            raise StartError(
                f"Port {port} is taken by another program. Choose another with --port, such as ./run --port {port + 1}."
            ) from error


def _secrets(var: Path) -> dict[str, str]:
    path = var / "secrets.json"
    if path.exists():
        try:
            held: dict[str, str] = json.loads(path.read_text(encoding="utf-8"))
            secret = {name: held[name] for name in ("database", "django", "redis")}
            return {**secret, "depot": held.get("depot") or secrets.token_hex(24)}  # one of before has none
        except (ValueError, KeyError) as error:
            raise StartError(
                f"{path} is damaged, so the database cannot be opened. Put the file back from a copy, or start anew with "
                "./run --fresh, which drops everything in var/."
            ) from error
    made = {name: secrets.token_hex(24) for name in ("database", "django", "redis", "depot")}
    with os.fdopen(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_EXCL, 0o600), "w", encoding="utf-8") as file:
        json.dump(made, file)
    return made


def _running(var: Path) -> int | None:
    """The number of the process that runs from this folder, if one does."""
    try:
        number = int((var / "supervisord.pid").read_text())
        os.kill(number, 0)
        return number if b"supervisord" in Path(f"/proc/{number}/cmdline").read_bytes() else None
    except (OSError, ValueError):
        return None


def prepare(var: Path, port: int) -> Place:
    """Check that a start can work and make what it needs. Raises StartError."""
    running = _running(var)
    if running:
        raise StartError(f"Yama is running from {var} already (process {running}). Stop that first, with Ctrl-C there.")
    try:
        var.mkdir(parents=True, exist_ok=True)
        for path in (var, *(var / name for name in _FOLDERS)):
            path.mkdir(exist_ok=True)
            path.chmod(0o700)  # what an older version made was open to everybody on this machine
        for path in (var / "log").iterdir():
            path.chmod(0o600)
    except OSError as error:
        raise StartError(f"{error.filename} cannot be made: {error.strerror}. Check who owns {var}.") from error
    if port:
        _check_port(port)
    place = Place(var, port or free_port(), free_port(), free_port(), free_port(), _secrets(var))
    place.sockets.mkdir(mode=0o700, exist_ok=True)
    _install_database(place)
    return place


def _install_database(place: Place) -> None:
    """Make the database's own folder, once; it is moved into place when whole."""
    data = place.var / "mariadb"
    if data.exists():
        if not (data / "mysql").is_dir():
            raise StartError(f"{data} is not a database folder. Move it away, or start anew with ./run --fresh.")
        return
    user = pwd.getpwuid(os.geteuid()).pw_name
    part = place.var / "mariadb.part"
    shutil.rmtree(part, ignore_errors=True)
    done = subprocess.run(
        ["mariadb-install-db", "--no-defaults", f"--datadir={part}", f"--user={user}", "--skip-test-db",
         "--auth-root-authentication-method=socket", f"--auth-root-socket-user={user}", "--innodb-log-file-size=16M"],
        capture_output=True, text=True, check=False, umask=_UMASK,
    )  # fmt: skip
    if done.returncode:
        raise StartError(f"The database could not be set up: {done.stderr.strip()[-400:]}")
    part.rename(data)


def _supervisor_file(place: Place) -> Path:
    """Write the description of all processes."""
    python, var, log = sys.executable, place.var, place.var / "log"
    user = pwd.getpwuid(os.geteuid()).pw_name
    bin_dir = Path(python).parent
    programs = {
        "mariadb": f"mariadbd --no-defaults --datadir={var}/mariadb --socket={place.sockets}/m.sock "
        f"--pid-file={var}/mariadb.pid --port={place.db_port} --bind-address=127.0.0.1 --user={user} "
        "--skip-name-resolve --innodb-log-file-size=16M --innodb-buffer-pool-size=128M --character-set-server=utf8mb4 "
        f"--performance-schema=OFF --local-infile=0 --secure-file-priv={var}/mariadb-files",
        "redis": f"redis-server {var}/redis.conf",
        "web": f"{bin_dir}/gunicorn yama.service.wsgi -c python:yama.service.gunicorn_conf",
        "front": f"nginx -p {var}/front -c {var}/front/nginx.conf -e stderr",
        "depot": f"{bin_dir}/gunicorn yama.depot.wsgi:application --workers 1 --threads 16 --bind "
        f"127.0.0.1:{place.depot_port}",
        "worker": f"{python} -m celery -A yama.service.celery worker -P threads -c 2 --without-gossip "
        "--without-mingle --loglevel WARNING",
        "watch": f"{python} manage.py watch_jobs",
    }
    redis = (
        f"port {place.redis_port}\nbind 127.0.0.1\nrequirepass {place.secret['redis']}\ndir {var}/redis\n"
        "maxmemory 384mb\nmaxmemory-policy volatile-lru\nsave 60 1\n"
    )
    for path, text in ((var / "redis.conf", redis),):
        path.write_text(text, encoding="utf-8")
        path.chmod(0o600)
    lines = [
        "[supervisord]", "nodaemon=true", f"logfile={log}/supervisord.log", f"pidfile={var}/supervisord.pid",
        "silent=true", f"directory={ROOT}", f"umask={_UMASK:03o}", "",
        "[unix_http_server]", f"file={place.sockets}/s.sock", "chmod=0700", "",
        "[supervisorctl]", f"serverurl=unix://{place.sockets}/s.sock", "",
        "[rpcinterface:supervisor]",
        "supervisor.rpcinterface_factory = supervisor.rpcinterface:make_main_rpcinterface", "",
    ]  # fmt: skip
    for priority, (name, command) in enumerate(programs.items(), start=1):
        first = name in ("mariadb", "redis")
        lines += [
            f"[program:{name}]", f"command={command}", f"priority={priority}", f"autostart={str(first).lower()}",
            "autorestart=true", f"startsecs={int(first)}", "stopwaitsecs=20", "stopasgroup=true", "killasgroup=true",
            f"stopsignal={_STOP_SIGNALS.get(name, 'TERM')}", f"stdout_logfile={log}/{name}.log", "redirect_stderr=true", "stdout_logfile_maxbytes=5MB", "",
        ]  # fmt: skip
    front.write(
        var, front.configuration(var, place.port, place.web_socket, ROOT / "web" / "dist", _UPLOAD_MB, _REQUEST_MB)
    )
    path = var / "supervisord.conf"
    path.write_text("\n".join(lines), encoding="utf-8")
    return path


def _log_tail(place: Place, name: str) -> str:
    path = place.var / "log" / f"{name}.log"
    lines = path.read_text(errors="replace").splitlines() if path.exists() else []
    return f"The end of {path}:\n" + "\n".join(f"  {line}" for line in lines[-8:])


def _listening(where: int | Path) -> bool:
    family, address = (
        (socket.AF_UNIX, str(where)) if isinstance(where, Path) else (socket.AF_INET, ("127.0.0.1", where))
    )
    with socket.socket(family) as probe:
        probe.settimeout(0.5)
        return probe.connect_ex(address) == 0  # type: ignore[arg-type]


class Instance:
    """A running Yama. `start` brings it up as far as asked; `stop` ends every process of it."""

    def __init__(self, place: Place) -> None:
        self.place = place
        self._supervisor: subprocess.Popen[bytes] | None = None
        log = place.var / "log" / "supervisord.log"
        self._log_from = log.stat().st_size if log.exists() else 0

    def _wait_for(self, name: str, where: int | Path) -> None:
        """Until a process listens. One that ends again and again is given up, one that is slow is not."""
        while not _listening(where):
            assert self._supervisor is not None
            if self._supervisor.poll() is not None or self._fell_down(name):
                raise StartError(f"The {name} did not start. {_log_tail(self.place, name)}")
            time.sleep(0.05)

    def _fell_down(self, name: str) -> bool:
        return self._ends(name) >= _FALLS

    def _ends(self, name: str) -> int:
        """How often a process has ended by itself since this start."""
        log = self.place.var / "log" / "supervisord.log"
        if not log.exists():
            return 0
        with log.open(errors="replace") as file:
            file.seek(min(self._log_from, log.stat().st_size))
            return file.read().count(f"exited: {name} ")

    def manage(self, *arguments: str) -> str:
        """Run one of Django's commands; returns what it printed."""
        done = subprocess.run(
            [sys.executable, str(ROOT / "manage.py"), *arguments],
            env=self.place.environment, cwd=ROOT, capture_output=True, text=True, check=False, umask=_UMASK,
        )  # fmt: skip
        if done.returncode:
            raise StartError(f"{arguments[0]} failed: {done.stderr.strip()[-1500:]}")
        return done.stdout.strip()

    def _control(self, *arguments: str) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "supervisor.supervisorctl", "-c", str(self.place.var / "supervisord.conf"), *arguments],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        if done.returncode or "ERROR" in done.stdout:
            raise StartError(f"Not everything started: {done.stdout.strip()} {_log_tail(self.place, 'web')}")

    def start_stores(self) -> None:
        """Database and broker, with the database's user and schema owner."""
        shutil.rmtree(self.place.var / "shelf", ignore_errors=True)  # what an older version made
        config = _supervisor_file(self.place)
        self._supervisor = subprocess.Popen(
            [sys.executable, "-m", "supervisor.supervisord", "-c", str(config)],
            env=self.place.environment, cwd=ROOT, start_new_session=True, umask=_UMASK,
        )  # fmt: skip
        self._wait_for("mariadb", self.place.db_port)
        self._wait_for("redis", self.place.redis_port)
        self._set_up_database()

    def _set_up_database(self) -> None:
        """Make the database's own user, and see that nobody else gets in: its administrator is this system user, by the
        socket alone; there is no account without a name or a password."""
        me = pwd.getpwuid(os.geteuid()).pw_name
        statements = (
            f"CREATE USER IF NOT EXISTS `{me}`@localhost IDENTIFIED VIA unix_socket;"
            f"ALTER USER `{me}`@localhost IDENTIFIED VIA unix_socket;"
            f"GRANT ALL ON *.* TO `{me}`@localhost WITH GRANT OPTION;"
            f"DELETE FROM mysql.global_priv WHERE User = '' OR (User = 'root' AND (Host <> 'localhost' OR '{me}' <> 'root'));"
            "FLUSH PRIVILEGES;"
            "CREATE DATABASE IF NOT EXISTS yama CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;"
            f"CREATE USER IF NOT EXISTS 'yama'@'127.0.0.1' IDENTIFIED BY '{self.place.secret['database']}';"
            "GRANT ALL ON yama.* TO 'yama'@'127.0.0.1'; GRANT ALL ON `test_yama%`.* TO 'yama'@'127.0.0.1';"
        )
        for name in dict.fromkeys((me, "root")):  # the second where an older version set the database up
            done = subprocess.run(
                ["mariadb", "--no-defaults", f"--socket={self.place.sockets}/m.sock", f"--user={name}"],
                input=statements, capture_output=True, text=True, check=False,
            )  # fmt: skip
            if not done.returncode:
                return
        raise StartError(f"The database refused its set-up: {done.stderr.strip()} {_log_tail(self.place, 'mariadb')}")

    def start(self, demo: bool = True) -> str:
        """Everything; returns the address that signs the demo user in once."""
        self.start_stores()
        token = self.manage("set_up", *([] if demo else ["--no-demo"]))
        self._control("start", "web", "depot", "worker", "watch", "front")
        self._wait_for("depot", self.place.depot_port)
        self._wait_for("web", self.place.web_socket)
        self._wait_for("front", self.place.port)
        return f"http://127.0.0.1:{self.place.port}/enter/{token}"

    def wait(self) -> None:
        """Until supervisord ends."""
        assert self._supervisor is not None
        self._supervisor.wait()

    def stop(self) -> None:
        """Stop every process, and wait until they have ended."""
        if self._supervisor is not None and self._supervisor.poll() is None:
            self._supervisor.terminate()
            try:
                self._supervisor.wait(40)
            except subprocess.TimeoutExpired:
                os.killpg(self._supervisor.pid, signal.SIGKILL)
        shutil.rmtree(self.place.sockets, ignore_errors=True)


def drop(var: Path) -> None:
    """Delete everything a start made. Raises StartError while it runs."""
    running = _running(var)
    if running:
        raise StartError(f"Yama is running from {var} (process {running}). Stop it before --fresh.")
    for child in var.iterdir() if var.exists() else ():
        if child.name != "numba":  # compiled kernels hold no data
            shutil.rmtree(child) if child.is_dir() and not child.is_symlink() else child.unlink()


def _stop_on_signal(*_: Any) -> None:
    raise KeyboardInterrupt


def main(argv: list[str] | None = None) -> int:
    """The command behind `./run`."""
    parser = argparse.ArgumentParser(prog="./run", description="Start Yama on this machine.")
    parser.add_argument("--port", type=int, default=8000, help="port of the desk on loopback; 0 takes a free one")
    parser.add_argument("--fresh", action="store_true", help="first drop everything in var/")
    parser.add_argument("--no-demo", action="store_true", help="start without the demo project")
    parser.add_argument("--setup-only", action="store_true", help="install what is missing, then stop")
    parser.add_argument("--var", type=Path, default=ROOT / "var", help=argparse.SUPPRESS)
    parser.add_argument("--stores-for", nargs=argparse.REMAINDER, help=argparse.SUPPRESS)
    options = parser.parse_args(argv)
    var = options.var.resolve()
    signal.signal(signal.SIGTERM, _stop_on_signal)
    signal.signal(signal.SIGHUP, _stop_on_signal)
    instance = None
    try:
        if options.fresh:
            drop(var)
        place = prepare(var, 0 if options.stores_for else options.port)
        if options.setup_only:
            print("Everything is in place. Start with ./run.")
            return 0
        instance = Instance(place)
        if options.stores_for:  # the tests' way in: database and broker for one command
            instance.start_stores()
            return subprocess.run([sys.executable, *options.stores_for], env=place.environment, check=False).returncode
        first = not (var / "demo").exists() and not options.no_demo
        if first:
            print("Making the demo island of Sundrel (about a minute, this once) ...", flush=True)
        address = instance.start(demo=not options.no_demo)
        print(
            f"\n  Yama is up. Open this address; it signs you in once:\n\n  {address}\n\n  Ctrl-C stops it.\n",
            flush=True,
        )
        instance.wait()
        print("Yama stopped by itself. Its logs are in", var / "log", file=sys.stderr)
        return 1
    except StartError as error:
        print(f"./run: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("\nStopping ...", flush=True)
        return 0
    finally:
        if instance is not None:
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            instance.stop()


if __name__ == "__main__":
    sys.exit(main())
