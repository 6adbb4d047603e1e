"""Whatever is typed after the command: an answer, or one sentence and status 2; never a traceback."""

from __future__ import annotations

import os
import random
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
import pytest
import sqlalchemy
import typer.main

from pairshelf import cli
from pairshelf.services.accounts import add_user
from pairshelf.store import database
from pairshelf.store.database import transaction
from tests.console import run
from tests.engine.helpers import at_once, shelf
from tests.server import forget_connections

PASSWORD = "a good password"
VALUES = [
    "", " ", "²", "١٢", "1", "0", "-1", "99999999999", "9" * 400, "1e400", "nan", "inf", "-inf", "0x10", "1_000", "x" * 256, "x" * 5000,
    "a/b", "/", "..", "/tmp", "/nowhere/at/all", "/dev/null", "~", "\0", "a\nb", "\ud800", "📁" * 70, "%s", "'", '"', "{1..", "{1..9}",
    "4x4TB", "3x8TB@oak,3x8TB@elm", "0x4TB", "1x1B", "1001x1TB", "4x4T", "6x4TB ssd", "5 GiB", "all", "parity-1", "stepped-1", "spread",
    "copies-2", "Loft:1-2-3", "A:1-4", "A:²", "A1", ":", "::", "a:b:c:d:e", "x:general:1TB:²", "x:general:1TB:1", "shelf", "host",
    "parity-1:4", "2TiB:copies-2", "1Gbit/s", "--json", "-", "--",
]  # fmt: skip


@pytest.fixture
def place(db: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A house to ask about, and a folder of one's own to stand in."""
    at_once()
    shelf(6)
    with transaction() as session:
        add_user(session, "ida", PASSWORD, "administrator")
    monkeypatch.setenv("PAIRSHELF_PASSWORD", PASSWORD)
    monkeypatch.setenv("PAIRSHELF_PASSPHRASE", "wrong")
    monkeypatch.setenv("PAIRSHELF_SECRET", "twelve letters and more")
    monkeypatch.setenv("PAIRSHELF_USER", "ida")
    monkeypatch.chdir(tmp_path)
    return tmp_path


def _commands(group: Any, before: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Any]]:
    for name, command in group.commands.items():
        if hasattr(command, "commands"):
            yield from _commands(command, (*before, name))
        else:
            yield (*before, name), command


def _words(dice: random.Random, command: click.Command) -> list[str]:
    words: list[str] = []
    for parameter in command.params:
        if parameter.name in ("help", "wait"):
            continue
        if not parameter.required and dice.random() < 0.7:
            continue
        value = dice.choice(VALUES)
        if isinstance(parameter, click.Argument) or type(parameter).__name__ == "TyperArgument":
            words.append(value)
        elif getattr(parameter, "is_flag", False):
            words.append(parameter.opts[0])
        else:
            words += [parameter.opts[0], value]
    return words


def _well(words: list[str], done: tuple[int, str, str]) -> None:
    status, _, said = done
    # `status` answers with 1 where something needs a person, as in this house without a worker.
    assert status in ((0, 1, 2) if words[0] == "status" else (0, 2)), (words, done)
    assert "Traceback" not in said and "not foreseen" not in said, (words, said)
    if status == 2:
        lines = [line for line in said.splitlines() if line.strip()]
        assert lines, words
        # Either the parser's own usage, or one sentence of ours.
        assert said.startswith("Usage:") or len(lines) == 1, (words, said)


@pytest.mark.parametrize("number", [1, 2])
def test_an_answer_or_one_sentence(place: Path, number: int) -> None:
    dice = random.Random(number)
    commands = dict(_commands(typer.main.get_command(cli.app)))
    assert len(commands) > 35
    refused = 0
    for name, command in commands.items():
        for _ in range(2 if len(name) > 1 else 6):
            words = [*name, *_words(dice, command)]
            done = run(words)
            _well(words, done)
            refused += done[0] == 2
    assert refused > 50


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["layout", "9" * 256, "--scheme", "parity-1"], "more than 10 EB"),
        (["layout", ",".join(["1x4TB"] * 90), "--scheme", "parity-1", "--json"], ""),
        (["split", "8x8TB,2x2TB ssd", "--use", "x:general:1TB:²"], "whole number"),
        (
            ["plan", "build-pool", "--name", "p", "--scheme", "parity-1", "--drives", "Loft:1-2-3"],
            "no drive Loft:1-2-3",
        ),
        (["approve", "99999999999"], "less than or equal"),
        (["approve", "7"], "no change sheet 7"),
        (["image", "A1", "/tmp"], "No partitions are planned"),
    ],
)
def test_what_was_a_traceback_once(place: Path, words: list[str], says: str) -> None:
    done = run(words)
    _well(words, done)
    assert says in done[2]
    assert done[0] == (2 if says else 0)


def test_an_image_to_a_folder_or_nowhere(place: Path) -> None:
    assert run(["partitions", "A1", "--part", "5GiB"])[0] == 0
    for target in (str(place), "/nowhere/at/all.img", "x" * 300):
        done = run(["image", "A1", target])
        _well(["image", target], done)
        assert "cannot be written" in done[2]


@pytest.mark.parametrize(
    ("address", "why"),
    [
        ("nonsense", "is no address"), ("sqlite:///x", "is no address"), ("http://x/y", "is no address"),
        ("postgresql://[", "The database does not answer"),
    ],
)  # fmt: skip
def test_an_address_that_is_no_database_s(address: str, why: str, monkeypatch: pytest.MonkeyPatch) -> None:
    with monkeypatch.context() as patch:
        patch.setattr(database, "create_engine", sqlalchemy.create_engine)
        patch.setenv("PAIRSHELF_DATABASE_URL", address)
        forget_connections()
        status, _, said = run(["jobs"])
    forget_connections()
    assert status == 2 and why in said and len(said.splitlines()) == 1, said


@pytest.mark.parametrize("kind", ["postgresql://127.0.0.1:1/x", "silent"])
def test_a_database_that_does_not_answer(kind: str, place: Path) -> None:
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        listening.listen()  # takes connections and never says a word
        address = (
            kind if kind != "silent" else f"postgresql://x@127.0.0.1:{listening.getsockname()[1]}/x?connect_timeout=2"
        )
        done = subprocess.run(
            [sys.executable, "-m", "pairshelf.cli", "jobs"], capture_output=True, text=True, check=False, timeout=60,
            env={**os.environ, "PAIRSHELF_DATABASE_URL": address},
        )  # fmt: skip
    assert done.returncode == 2, done.stderr
    assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    assert "database" in done.stderr.lower()


def test_a_port_that_is_none(place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("PAIRSHELF_DATABASE_URL")
    monkeypatch.setenv("PAIRSHELF_PORT", "²")
    done = run(["jobs"])
    _well(["jobs"], done)
    assert "number from 1 to 65535" in done[2]


def test_what_is_not_foreseen_says_how_to_see_where(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cli, "app", lambda: [][1])
    status, _, said = run([])
    assert status == 2 and "PAIRSHELF_TRACE=1" in said and len(said.splitlines()) == 1
    monkeypatch.setenv("PAIRSHELF_TRACE", "1")
    with pytest.raises(IndexError):
        run([])
