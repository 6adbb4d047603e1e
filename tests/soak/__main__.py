"""``make soak``: as many random histories as wanted, on all cores, with the seeds of those in which something did
not hold. A seed makes its round again: ``make soak SEED=123 ROUNDS=1``."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
import traceback
import uuid
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

import psycopg

from pairshelf.engine import keys
from pairshelf.store import database
from tests.server import copy_database, forget_connections, in_memory, running
from tests.soak.histories import History


def one(server: str, template: str, seed: int, kind: str | None = None) -> tuple[int, str, int, str]:
    """Seed, what kind of pool it was, workers killed, and what did not hold (nothing: all did)."""
    name, folder = f"s{uuid.uuid4().hex[:12]}", Path(tempfile.mkdtemp(prefix="pairshelf-soak-", dir=in_memory()))
    copy_database(server, template, name)
    os.environ.update(PAIRSHELF_DATABASE_URL=f"{server}/{name}", PAIRSHELF_DEVICES=str(folder / "devices"))
    forget_connections()
    history = None
    try:
        history = History(seed, kind, (server, template))
        history.run()
        return seed, history.kind, history.kills, ""
    except BaseException:
        return seed, history.kind if history else "", history.kills if history else 0, traceback.format_exc()
    finally:
        database.engine().dispose()
        keys.forget_all()
        shutil.rmtree(folder, ignore_errors=True)
        with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
            connection.execute(f"drop database {name} with (force)".encode())


def main() -> int:
    rounds, first = int(os.environ.get("ROUNDS") or 100), int(os.environ.get("SEED") or time.time_ns() % 10**9)
    kind = os.environ.get("KIND") or None
    wrong, kills, began = [], 0, time.monotonic()
    with running() as address:
        server, template = address.rsplit("/", 1)
        with ProcessPoolExecutor(os.cpu_count()) as workers:
            begun = [workers.submit(one, server, template, first + i, kind) for i in range(rounds)]
            for number, done in enumerate(as_completed(begun), 1):
                seed, was, killed, why = done.result()
                kills += killed
                if why:
                    wrong.append(seed)
                    print(f"SEED {seed} ({was}):\n{why}", flush=True)
                elif number % 20 == 0:
                    print(f"{number} of {rounds} histories, {kills} kills, {len(wrong)} wrong", flush=True)
    took = time.monotonic() - began
    print(
        f"{rounds} histories from seed {first} in {took:.0f} s: {kills} kills, {len(wrong)} wrong{': seeds ' + str(wrong) if wrong else ''}"
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
