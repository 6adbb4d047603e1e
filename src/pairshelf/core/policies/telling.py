"""Who is told what, and when: one message where much happens together, one when all is well again, nothing twice."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from zoneinfo import ZoneInfo

from pairshelf.core.policies.attention import Gravity, Matter

#: What happens within this time is told together; and what is over must be so for a while: it may come back.
GATHER, SETTLE = dt.timedelta(seconds=10), dt.timedelta(seconds=20)
#: A message that cannot be delivered is given up after this time.
GIVE_UP = dt.timedelta(days=3)
_FIRST_WAIT, _LONGEST_WAIT = 15.0, 3600.0
#: Lines of a message at most; the rest is a number.
MOST_LINES = 12


@dataclass(frozen=True, slots=True)
class Topic:
    """Something that needs, or needed, a person."""

    key: str
    gravity: Gravity
    sentence: str
    #: The page about it.
    link: str
    seen_at: dt.datetime
    #: How grave it was when it was told; None: it has not been.
    told: Gravity | None = None
    #: Since when it is over.
    gone_at: dt.datetime | None = None

    @property
    def untold(self) -> bool:
        """Whether nobody has been told of it as grave as it is."""
        return self.told is None or self.gravity < self.told

    @property
    def as_told(self) -> Gravity:
        """How grave it was when it was told, or is."""
        return self.gravity if self.told is None else self.told


@dataclass(frozen=True, slots=True)
class News:
    """What is to be told now."""

    #: begun or over
    kind: str
    topics: tuple[Topic, ...]

    @property
    def gravity(self) -> Gravity:
        """Of the gravest."""
        return min(t.as_told for t in self.topics)


def look(
    topics: Mapping[str, Topic], matters: Sequence[Matter], at: dt.datetime
) -> tuple[dict[str, Topic], list[News]]:
    """What is known after another look at what needs a person, and what is to be told of it."""
    there = {m.key: m for m in reversed(matters)}
    after: dict[str, Topic] = {}
    for key, matter in there.items():
        gravity, link, before = Gravity(matter.gravity), matter.page or matter.link, topics.get(key)
        if before is None:
            after[key] = Topic(key, gravity, matter.sentence, link, at)
        else:
            now = replace(before, gravity=gravity, sentence=matter.sentence, link=link, gone_at=None)
            # A clock that was put back does not keep it waiting.
            seen_at = at if now.untold and not before.untold else min(before.seen_at, at)
            after[key] = replace(now, seen_at=seen_at)
    for key, before in topics.items():
        # What came and went before anybody was told never was.
        if key not in there and before.told is not None:
            gone = before.gone_at
            after[key] = replace(before, gone_at=at if gone is None or gone > at else gone)
    news = []
    new = [t for t in after.values() if t.gone_at is None and t.untold]
    if new and at - min(t.seen_at for t in new) >= GATHER:
        told = [replace(t, told=t.gravity) for t in sorted(new, key=lambda t: t.gravity)]
        news.append(News("begun", tuple(told)))
        after |= {t.key: t for t in told}
    over = [t for t in after.values() if t.gone_at is not None and at - t.gone_at >= SETTLE]
    pressing = [t for t in after.values() if t not in over and t.told is not None and t.told is not Gravity.SOMETIME]
    if over and not pressing:
        if said := [t for t in over if t.told is not Gravity.SOMETIME]:
            news.append(News("over", tuple(sorted(said, key=lambda t: t.gravity))))
        for topic in over:
            del after[topic.key]
    return after, news


# -- to whom, and when ---------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Wishes:
    """What a person wants to be told by a way, and when not."""

    urgencies: frozenset[Gravity]
    #: Minutes after midnight by the clock of a place; the same: never quiet.
    quiet_from: int = 0
    quiet_to: int = 0
    zone: str = "UTC"
    #: What presses now comes in quiet hours, too.
    wakes: bool = True


def lines_for(wishes: Wishes, news: News) -> tuple[Topic, ...]:
    """What of it a person is told."""
    return tuple(t for t in news.topics if t.as_told in wishes.urgencies)


def not_before(wishes: Wishes, gravity: Gravity, at: dt.datetime) -> dt.datetime:
    """When a message may be sent: now, or when quiet hours end."""
    if wishes.quiet_from == wishes.quiet_to or (wishes.wakes and gravity is Gravity.NOW):
        return at
    zone = ZoneInfo(wishes.zone)
    local = at.astimezone(zone)
    minute = local.hour * 60 + local.minute
    begin, end = wishes.quiet_from, wishes.quiet_to
    quiet = begin <= minute < end if begin < end else minute >= begin or minute < end
    if not quiet:
        return at
    day = local.date() + dt.timedelta(days=1 if minute >= end else 0)
    return dt.datetime.combine(day, dt.time(end // 60, end % 60), zone).astimezone(dt.UTC)


def wait_after(attempts: int) -> dt.timedelta:
    """How long is waited after so many attempts in vain: longer each time, an hour at most."""
    return dt.timedelta(seconds=min(_LONGEST_WAIT, _FIRST_WAIT * 2.0 ** min(attempts - 1, 20)))


def title_of(kind: str, sentences: Sequence[str]) -> str:
    """What a message says in one line."""
    if kind == "test":
        return "This is a test"
    if kind == "over":
        return "All is well again"
    if len(sentences) == 1:
        return sentences[0].split(". ")[0].rstrip(".")
    return f"{len(sentences)} things need you"
