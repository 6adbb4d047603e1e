"""Answers that several screens asking the same get from one working out.

When something changes, every open screen asks anew at once. PostgreSQL says, with the question of who is
asking, what it would show (its snapshot: which transactions have ended): while that is the same, so is an
answer that comes from the database alone.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from threading import Lock, Semaphore

#: Seconds an answer is good for even if nothing changes: some things happen by time passing.
_GOOD_FOR = 2.0
_MOST = 128
#: So many are worked out side by side in a process: more only keep each other waiting. One that takes longer than so
#: many seconds holds nobody up.
_SIDE_BY_SIDE, _HOLDS_UP = 2, 2.0


@dataclass(slots=True)
class _Answer:
    lock: Lock = field(default_factory=Lock)
    snapshot: str = ""
    until: float = 0.0
    body: bytes = b""


_guard = Lock()
_turns = Semaphore(_SIDE_BY_SIDE)
_answers: OrderedDict[Hashable, _Answer] = OrderedDict()


def shared(question: Hashable, snapshot: str, work: Callable[[], bytes]) -> bytes:
    """The answer to a question asked at a snapshot; ``work`` finds it if it is not known. Who asks the same
    meanwhile waits for it."""
    with _guard:
        answer = _answers.setdefault(question, _Answer())
        _answers.move_to_end(question)
        if len(_answers) > _MOST:
            _answers.popitem(last=False)
    with answer.lock:
        if answer.snapshot != snapshot or time.monotonic() > answer.until:
            # Worked out after the snapshot was taken: it may know more, never less.
            mine = _turns.acquire(timeout=_HOLDS_UP)
            try:
                body = work()
            finally:
                if mine:
                    _turns.release()
            answer.snapshot, answer.until, answer.body = snapshot, time.monotonic() + _GOOD_FOR, body
        return answer.body
