"""The supervisor: database, migrations, demo, worker and web server, started together and stopped together."""

import fcntl
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from types import FrameType
from typing import IO

from proteron.cli.cluster import Cluster, die_with_parent, protect
from proteron.core.errors import ProteronError
from proteron.records.configuration import Configuration

_LOOPBACK = ("127.0.0.1", "localhost", "::1")
_RESTART_PAUSE = 1.0
_SAID_AFTER = 30.0


class ServeError(ProteronError):
    """The application cannot start as asked."""

    code = "serve"


class Supervisor:
    """Starts everything, restarts a worker or web server that died, stops everything on a signal."""

    def __init__(self, settings: Configuration) -> None:
        self.settings = settings
        self.home = settings.home
        self._stop = threading.Event()
        self._children: dict[str, subprocess.Popen[bytes]] = {}
        self._commands: dict[str, list[str]] = {}
        self._cluster: Cluster | None = None
        self._lock: IO[str] | None = None

    def run(self, reset_demo: bool = False, demo: bool = True) -> None:
        """Run until a signal arrives; raises `ServeError` when something cannot start."""
        for signum in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(signum, self._asked_to_stop)
        self._check_address()
        protect(self.home)
        self._take_home()
        try:
            url = self._start_database()
            self._environment = {
                **os.environ,
                "PROTERON_DATABASE_URL": url,
                "PROTERON_HOME": str(self.home),
                "NUMBA_CACHE_DIR": os.environ.get("NUMBA_CACHE_DIR", str(self.home / "kernels")),
                "OPENBLAS_NUM_THREADS": "1",
            }
            self._start("web", self._web_command())  # touches the database only when asked something
            self._prepare(reset_demo, demo)
            self._start("worker", [sys.executable, "-m", "proteron.cli.main", "worker"])
            self._wait_ready()
            print(f"Proteron is ready at http://{self.settings.host}:{self.settings.port}", flush=True)
            self._watch()
        finally:
            self._stop_all()

    def _asked_to_stop(self, _signum: int, _frame: FrameType | None) -> None:
        self._stop.set()

    def _check_address(self) -> None:
        host, port = self.settings.host, self.settings.port
        if host not in _LOOPBACK:
            raise ServeError(
                f"PROTERON_HOST={host} would open Proteron to the network, which needs sign-in; "
                "it has none yet, so only 127.0.0.1 and localhost are possible."
            )
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(family) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
            except OSError as error:
                raise ServeError(
                    f"Port {port} on {host} is taken ({error.strerror}). "
                    f"Stop what uses it, or choose another: PROTERON_PORT={port + 1} ./run"
                ) from error

    def _take_home(self) -> None:
        self._lock = (self.home / "lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise ServeError(f"Proteron is running already with PROTERON_HOME={self.home}; stop it first.") from error

    def _start_database(self) -> str:
        if self.settings.database_url:
            return self.settings.database_url
        self._cluster = Cluster(self.home)
        self._cluster.start()
        return self._cluster.url

    def _prepare(self, reset_demo: bool, demo: bool) -> None:
        """Migrations and demo data, in a process of their own that leaves nothing in memory."""
        options = ["--reset-demo"] if reset_demo else [] if demo else ["--no-demo"]
        command = [sys.executable, "-m", "proteron.cli.main", "prepare", *options]
        outcome = subprocess.run(command, env=self._environment, capture_output=True, text=True, check=False)
        if outcome.returncode and not self._stop.is_set():
            raise ServeError(f"The database could not be prepared: {outcome.stderr.strip()[-800:]}")

    def _web_command(self) -> list[str]:
        address = f"[{self.settings.host}]" if ":" in self.settings.host else self.settings.host
        return [
            sys.executable, "-m", "gunicorn", "--config", "python:proteron.cli.web",
            "--bind", f"{address}:{self.settings.port}", "proteron.cli.web:application()",
        ]  # fmt: skip

    def _start(self, name: str, command: list[str]) -> None:
        def prepare() -> None:
            os.setpgid(0, 0)
            die_with_parent(signal.SIGTERM)

        self._commands[name] = command
        log = self.home / f"{name}.log"
        with log.open("ab") as out:
            self._children[name] = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=out, stderr=out, env=self._environment, preexec_fn=prepare
            )

    def _wait_ready(self) -> None:
        """Wait as long as the web process lives: a slow machine compiles for minutes at its first start."""
        address = f"http://{self.settings.host}:{self.settings.port}/api/v1/health"
        if ":" in self.settings.host:
            address = f"http://[{self.settings.host}]:{self.settings.port}/api/v1/health"
        patience = time.monotonic() + _SAID_AFTER
        while not self._stop.is_set():
            if self._children["web"].poll() is not None:
                raise ServeError(f"The web server stopped at once; see {self.home / 'web.log'}.")
            try:
                with urllib.request.urlopen(address, timeout=5):
                    return
            except OSError:
                self._stop.wait(0.05)
            if time.monotonic() > patience:
                patience = float("inf")
                print("The web server is still starting; a first start compiles for a while.", file=sys.stderr)

    def _watch(self) -> None:
        while not self._stop.wait(0.3):
            for name, child in list(self._children.items()):
                if child.poll() is not None:
                    print(f"The {name} stopped unexpectedly and is started again.", flush=True)
                    self._stop.wait(_RESTART_PAUSE)
                    if not self._stop.is_set():
                        self._start(name, self._commands[name])
            if self._cluster is not None and not self._cluster.alive:
                print(f"The database stopped unexpectedly; see {self.home / 'postgres.log'}.", flush=True)
                return

    def _stop_all(self) -> None:
        for name in ("web", "worker"):
            child = self._children.get(name)
            if child is not None and child.poll() is None:
                child.terminate()
        patience = time.monotonic() + 8
        for child in self._children.values():
            try:
                child.wait(max(patience - time.monotonic(), 0.1))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()
        if self._cluster is not None:
            self._cluster.stop()
        if self._lock is not None:
            self._lock.close()
