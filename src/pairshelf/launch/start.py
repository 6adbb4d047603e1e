"""The start command: bring everything up, say where it is, and take it all down on Ctrl-C."""

from __future__ import annotations

import argparse
import contextlib
import fcntl
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path

from pairshelf.launch.cluster import Cluster
from pairshelf.launch.errors import CannotStart

ROOT = Path(__file__).resolve().parents[3]
_ENOUGH_DISK = 1200 * 1024 * 1024
_USUAL_PORT = 8321


class Child:
    """A process that is started again when it ends by itself."""

    def __init__(self, name: str, command: list[str], env: dict[str, str]) -> None:
        self.name, self._command, self._env = name, command, env
        self._process: subprocess.Popen[bytes] | None = None
        self._started = 0.0

    def start(self) -> None:
        """Start it; it ends when we do, even if we are killed."""
        prefix = ["setpriv", "--pdeathsig", "TERM", "--"] if shutil.which("setpriv") else []
        self._started = time.monotonic()
        self._process = subprocess.Popen(
            prefix + self._command, env=self._env, cwd=ROOT, stdin=subprocess.DEVNULL, start_new_session=True
        )

    def look_after(self) -> None:
        """Start it again if it has ended, not faster than once a second."""
        if self._process and self._process.poll() is not None and time.monotonic() - self._started > 1:
            print(f"The {self.name} ended; starting it again.", file=sys.stderr, flush=True)
            self.start()

    def stop(self) -> None:
        """Ask it to end; insist after fifteen seconds, which is more than they give what they are at."""
        if self._process is None or self._process.poll() is not None:
            return
        self._process.terminate()
        try:
            self._process.wait(15)
        except subprocess.TimeoutExpired:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self._process.pid, signal.SIGKILL)


@contextlib.contextmanager
def only_one(folder: Path) -> Iterator[None]:
    """One start a folder at a time; a lock that a crash releases by itself."""
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / "running.lock", "a+") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            lock.seek(0)
            where = lock.read().strip()
            raise CannotStart(
                f"Pair Shelf runs already{f' at {where}' if where else ''}; stop it there with Ctrl-C."
            ) from None
        lock.seek(0)
        lock.truncate()
        yield


def _settings() -> tuple[Path, str, int]:
    var = Path(os.environ.get("PAIRSHELF_VAR", ROOT / "var")).absolute()
    host = os.environ.get("PAIRSHELF_HOST", "127.0.0.1")
    text = os.environ.get("PAIRSHELF_PORT", str(_USUAL_PORT))
    if not (text.isascii() and text.isdigit() and len(text) < 6) or not 1 <= int(text) <= 65535:
        raise CannotStart(f"PAIRSHELF_PORT is “{text}”; it must be a number from 1 to 65535.")
    return var, host, int(text)


def _check_surroundings(var: Path, host: str, port: int) -> None:
    var.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(var).free
    if free < _ENOUGH_DISK:
        raise CannotStart(
            f"Only {free // 2**20} MiB are free in {var}; make room for at least {_ENOUGH_DISK // 2**20} MiB."
        )
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise CannotStart(
                f"Port {port} on {host} cannot be used ({error.strerror}); choose another with PAIRSHELF_PORT=9000 make demo."
            ) from None
    if not (ROOT / "web" / "dist" / "index.html").exists():
        raise CannotStart("The web part has not been built; start with make demo or make start.")


def _children(host: str, port: int) -> list[Child]:
    env = dict(os.environ)
    web = [sys.executable, "-m", "pairshelf.api.serve", host, str(port), "2"]
    return [
        Child("web server", web, env),
        Child("worker", [sys.executable, "-m", "pairshelf.launch.worker"], env),
        Child("watcher", [sys.executable, "-m", "pairshelf.launch.watcher"], env),
    ]


def _await_web(url: str, web: Child) -> None:
    until = time.monotonic() + 120
    while time.monotonic() < until:
        try:
            with urllib.request.urlopen(url + "/api/health", timeout=2):  # noqa: S310 - our own address
                return
        except OSError:
            time.sleep(0.1)
            web.look_after()
    raise CannotStart("The web server does not answer after two minutes.")


def run(*, demo: bool) -> None:
    """Start everything and stay until told to stop."""
    var, host, port = _settings()
    with only_one(var):
        _check_surroundings(var, host, port)
        url = f"http://{host}:{port}"
        (var / "running.lock").write_text(url)
        everywhere = host in ("0.0.0.0", "::")  # noqa: S104 - asked, not bound
        os.environ.setdefault("PAIRSHELF_ADDRESS", f"http://{socket.gethostname() if everywhere else host}:{port}/")
        os.environ.setdefault("PAIRSHELF_DEVICES", str(var / "devices"))
        cluster = None
        children: list[Child] = []
        try:
            if "PAIRSHELF_DATABASE_URL" not in os.environ:
                cluster = Cluster(var / "postgres")
                cluster.start()
                os.environ["PAIRSHELF_DATABASE_URL"] = cluster.url
            _note_running(var)
            greeting = _prepare(url, demo=demo)
            children = _children(host, port)
            web, *others = children
            web.start()
            # All at once would keep each other waiting, and whoever started this waits for the first page.
            _await_web(url, web)
            _expect_the_others()
            for child in others:
                child.start()
            print(greeting, flush=True)
            _stay(children, cluster)
        finally:
            print("Stopping.", flush=True)
            (var / _RUNNING).unlink(missing_ok=True)
            for child in children:
                child.stop()
            if cluster:
                cluster.stop()
                # It has another address next time, where nobody would find or forget what lies open in memory.
                from pairshelf.engine.keys import forget_all

                forget_all()


_RUNNING = "running.json"


def _note_running(var: Path) -> None:
    """Where the console finds the database and the devices while this runs; for this user's eyes only."""
    path = var / _RUNNING
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump({k: os.environ[k] for k in ("PAIRSHELF_DATABASE_URL", "PAIRSHELF_DEVICES")}, file)


def running_at() -> tuple[str, str] | None:
    """The database and the devices of what runs from this folder, or None."""
    var, _, _ = _settings()
    try:
        found = json.loads((var / _RUNNING).read_text())
    except (OSError, ValueError):
        return None
    return found["PAIRSHELF_DATABASE_URL"], found["PAIRSHELF_DEVICES"]


def _expect_the_others() -> None:
    """The worker and the watcher are about to be started: who has not been heard of yet is not away."""
    from pairshelf.engine import signs

    for who in (signs.WORKER, signs.WATCHER):
        signs.give(who)


def _prepare(url: str, *, demo: bool) -> str:
    """Bring the tables up to date and load what a first start needs; returns what to print."""
    from sqlalchemy.exc import OperationalError

    from pairshelf.demo import load_demo
    from pairshelf.services.accounts import setup_link
    from pairshelf.store.database import migrate

    try:
        migrate()
    except OperationalError as error:
        reason = str(error.orig).strip().splitlines()[0]
        raise CannotStart(f"The database at PAIRSHELF_DATABASE_URL cannot be used: {reason}") from None
    _expect_the_others()
    lines = ["", f"  Pair Shelf is at  {url}"]
    if demo:
        lines.append(f"  Demo sign-in      {load_demo()}")
    elif path := setup_link():
        lines.append(f"  First, make the administrator (this link works once):  {url}{path}")
    lines += ["  Stop with Ctrl-C; everything is kept for the next start.", ""]
    return "\n".join(lines)


def _stay(children: list[Child], cluster: Cluster | None) -> None:
    while True:
        time.sleep(0.5)
        for child in children:
            child.look_after()
        if cluster and not cluster.running():
            print("The database server ended; starting it again.", file=sys.stderr, flush=True)
            # On the same port, so that the others find it again.
            cluster.start_on(cluster.port)


def reset() -> None:
    """Remove the database and the simulated drives, so that the next start is the first."""
    var, _, _ = _settings()
    with only_one(var):
        Cluster(var / "postgres").remove()
        shutil.rmtree(var / "devices", ignore_errors=True)
    print("The database and the simulated drives are gone; the next start is the first.")


def main() -> None:
    """Entry: ``demo``, ``start`` or ``reset``."""
    parser = argparse.ArgumentParser(prog="pairshelf.launch.start")
    parser.add_argument("what", choices=("demo", "start", "reset"))
    what = parser.parse_args().what
    actions: dict[str, Callable[[], None]] = {
        "demo": lambda: run(demo=True), "start": lambda: run(demo=False), "reset": reset,
    }  # fmt: skip

    def stop(_signal: int, _frame: object) -> None:
        raise KeyboardInterrupt

    # Also where whoever started us ignores it.
    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGHUP, stop)
    try:
        actions[what]()
    except CannotStart as error:
        print(f"Pair Shelf: {error}", file=sys.stderr)
        sys.exit(1)
    except KeyboardInterrupt:
        sys.exit(0)
    except OSError as error:
        if error.errno == 28:
            print("Pair Shelf: the disk is full; make room and start again.", file=sys.stderr)
            sys.exit(1)
        raise


if __name__ == "__main__":
    main()
