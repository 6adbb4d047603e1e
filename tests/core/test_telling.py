"""Who is told what, and when: once, together, and when it is over."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import hmac
import json
from email import message_from_bytes, policy
from zoneinfo import ZoneInfo

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from pairshelf.core.policies.attention import Gravity, Matter, NotedDrive, matters
from pairshelf.core.policies.telling import (
    GATHER,
    MOST_LINES,
    SETTLE,
    News,
    Topic,
    Wishes,
    lines_for,
    look,
    not_before,
    title_of,
    wait_after,
)
from pairshelf.formats.messages import Said, as_event, as_mail, new_secret, signature

BEGIN = dt.datetime(2026, 5, 4, 8, tzinfo=dt.UTC)
SECOND = dt.timedelta(seconds=1)


def matter(key: str, gravity: Gravity = Gravity.SOON) -> Matter:
    return Matter(gravity, f"{key} is {gravity.name}.", "See to it", f"/{key}", subject=key)


class Watch:
    """Looks one after the other, and all that was told."""

    def __init__(self) -> None:
        self.topics: dict[str, Topic] = {}
        self.at = BEGIN
        self.told: list[News] = []

    def look(self, *matters: Matter, seconds: float = 3) -> list[News]:
        self.at += seconds * SECOND
        self.topics, news = look(self.topics, matters, self.at)
        self.told += news
        return news

    def looks(self, *matters: Matter, seconds: float = 60) -> list[News]:
        return [n for _ in range(int(seconds / 3)) for n in self.look(*matters)]


def keys(news: News) -> list[str]:
    return [t.key for t in news.topics]


def test_what_happens_together_is_one_message_and_it_is_told_once() -> None:
    watch = Watch()
    forty = [matter(f"drive {i}") for i in range(40)]
    assert watch.look(*forty[:3]) == []
    assert watch.look(*forty) == []
    (news,) = watch.looks(*forty, seconds=300)
    assert news.kind == "begun" and len(news.topics) == 40
    # And when all of them are well again, one more.
    watch.looks(*forty[:2], seconds=300)
    assert len(watch.told) == 1
    (over,) = watch.looks(seconds=300)
    assert over.kind == "over" and len(over.topics) == 40 and watch.topics == {}


def test_what_came_and_went_before_anybody_was_told_never_was() -> None:
    watch = Watch()
    watch.look(matter("a"))
    assert watch.looks(seconds=120) == [] and watch.topics == {}


def test_what_comes_back_before_it_has_settled_is_not_over() -> None:
    watch = Watch()
    watch.looks(matter("a"), seconds=30)
    for _ in range(10):
        watch.looks(seconds=SETTLE.total_seconds() - 4)
        watch.look(matter("a"))
    assert [n.kind for n in watch.told] == ["begun"]


def test_what_becomes_graver_is_told_again_and_what_becomes_lighter_is_not() -> None:
    watch = Watch()
    watch.looks(matter("a", Gravity.SOON))
    (news,) = watch.looks(matter("a", Gravity.NOW))
    assert (keys(news), news.gravity) == (["a"], Gravity.NOW)
    assert watch.looks(matter("a", Gravity.SOON)) == []
    (over,) = watch.looks()
    assert over.kind == "over"


def test_a_drive_that_begins_to_fail_is_told_of_though_its_warning_was_and_what_is_to_be_done_may_change_in_silence() -> (
    None
):
    def of(**facts: bool) -> Matter:
        usual = {
            "new_drives": 0,
            "drafts": (),
            "worker_away": False,
            "no_drives": False,
            "free_drives": 0,
            "no_pools": False,
        }
        told = {"failing": False, "to_scan": False, **facts}
        (found,) = matters((), drives=[NotedDrive(3, "Drive X", 7, **told)], **usual)  # type: ignore[arg-type]
        return found

    watch = Watch()
    (warned,) = watch.looks(of(to_scan=True))
    assert watch.looks(of(to_scan=False)) == []
    (failing,) = watch.looks(of(failing=True))
    assert "gives warning" in warned.topics[0].sentence and "is failing" in failing.topics[0].sentence
    (over,) = watch.looks()
    assert over.kind == "over" and watch.topics == {}


def test_what_can_wait_is_told_and_does_not_keep_all_from_being_well() -> None:
    watch = Watch()
    watch.looks(matter("a", Gravity.NOW), matter("later", Gravity.SOMETIME))
    (over,) = watch.looks(matter("later", Gravity.SOMETIME))
    assert over.kind == "over" and keys(over) == ["a"]
    # That it is over is nothing anybody is told.
    assert watch.looks() == [] and watch.topics == {}


def test_a_clock_that_is_put_back_keeps_nothing_from_being_told() -> None:
    watch = Watch()
    watch.look(matter("a"))
    watch.at -= dt.timedelta(days=3)
    assert [n.kind for n in watch.looks(matter("a"), seconds=30)] == ["begun"]
    watch.look()
    watch.at -= dt.timedelta(days=3)
    assert [n.kind for n in watch.looks(seconds=60)] == ["over"]


@example(
    [({"a"}, 1, Gravity.SOMETIME), ({"a"}, 11, Gravity.SOMETIME), (set(), 1, Gravity.NOW), (set(), 30, Gravity.NOW)] * 2
)
@given(
    st.lists(
        st.tuples(st.sets(st.sampled_from("abcd")), st.sampled_from([1, 3, 11, 30]), st.sampled_from(list(Gravity))),
        max_size=40,
    )
)
def test_whatever_happens_nothing_is_told_twice_and_what_stays_is_told(
    steps: list[tuple[set[str], int, Gravity]],
) -> None:
    watch = Watch()
    standing: dict[str, Gravity] = {}
    for names, seconds, gravity in steps:
        for news in watch.look(*(matter(n, gravity) for n in sorted(names)), seconds=seconds):
            for topic in news.topics:
                if news.kind == "begun":
                    # Told of again only where it has become graver.
                    assert topic.key not in standing or topic.gravity < standing[topic.key]
                    standing[topic.key] = topic.gravity
                else:
                    assert standing.pop(topic.key) is not Gravity.SOMETIME
        # Nobody is told that what can wait is over: should it come back, it is told of anew.
        for key in standing.keys() - watch.topics.keys():
            assert standing.pop(key) is Gravity.SOMETIME
    if steps:
        names, _, gravity = steps[-1]
        watch.looks(*(matter(n, gravity) for n in sorted(names)), seconds=60)
        assert {t.key for t in watch.topics.values() if t.told is not None and t.gone_at is None} == names


# -- to whom, and when ---------------------------------------------------------------------------------


@given(
    st.integers(1_577_836_800, 2_208_988_800), st.integers(0, 1439), st.integers(0, 1439),
    st.sampled_from(["UTC", "Europe/Paris", "Asia/Kolkata", "America/New_York"]), st.sampled_from([Gravity.SOON, Gravity.SOMETIME]),
)  # fmt: skip
def test_in_quiet_hours_it_waits_for_their_end_and_no_longer(
    second: int, begin: int, end: int, zone: str, gravity: Gravity
) -> None:
    at = dt.datetime.fromtimestamp(second, dt.UTC)
    wishes = Wishes(frozenset(Gravity), begin, end, zone)
    when = not_before(wishes, gravity, at)
    assert at <= when <= at + dt.timedelta(hours=25)
    local = at.astimezone(ZoneInfo(zone))
    minute = local.hour * 60 + local.minute
    length = (end - begin) % 1440
    quiet = (minute - begin) % 1440 < length
    assert (when > at) == quiet or when == at
    if when > at:
        there = when.astimezone(ZoneInfo(zone))
        # Where the clock jumps over that time it is the next there is.
        assert there.hour * 60 + there.minute == end or there.utcoffset() != local.utcoffset()
    # What presses now wakes, unless that is not wanted.
    assert not_before(wishes, Gravity.NOW, at) == at
    assert not_before(Wishes(frozenset(Gravity), begin, end, zone, wakes=False), Gravity.NOW, at) == when


def test_each_is_told_what_he_wants_to_know() -> None:
    topics = tuple(Topic(g.name, g, "", "", BEGIN) for g in Gravity)
    assert [t.key for t in lines_for(Wishes(frozenset({Gravity.NOW, Gravity.SOMETIME})), News("begun", topics))] == [
        "NOW",
        "SOMETIME",
    ]
    # Of what is over: what he had been told.
    lighter = Topic("a", Gravity.SOON, "", "", BEGIN, told=Gravity.NOW)
    assert lines_for(Wishes(frozenset({Gravity.NOW})), News("over", (lighter,))) == (lighter,)


def test_it_is_tried_again_after_longer_and_longer_an_hour_at_most() -> None:
    waits = [wait_after(n).total_seconds() for n in range(1, 200)]
    assert waits[:4] == [15, 30, 60, 120] and waits == sorted(waits) and waits[-1] == 3600


@pytest.mark.parametrize(
    ("kind", "sentences", "title"),
    [
        ("test", [], "This is a test"), ("over", ["a"], "All is well again"),
        ("begun", ["Pool cold is degraded: something may still fail. All data can be read."], "Pool cold is degraded: something may still fail"),
        ("begun", ["a", "b"], "2 things need you"),
    ],
)  # fmt: skip
def test_one_line_says_it(kind: str, sentences: list[str], title: str) -> None:
    assert title_of(kind, sentences) == title


# -- how it is sent ------------------------------------------------------------------------------------


def said(count: int = 1, kind: str = "begun") -> Said:
    lines = [{"sentence": f"Drive {i} is failing: é.", "link": f"/trouble/{i}", "gravity": 1} for i in range(count)]
    return Said("abc-7", kind, lines, BEGIN, "https://shelf.house.example/")


def test_a_letter_says_it_all_with_links_and_the_same_id_each_time() -> None:
    mail = message_from_bytes(
        as_mail(said(), "storage@house.example", "ida@house.example").as_bytes(), policy=policy.default
    )
    assert mail["Subject"] == "Pair Shelf: Drive 0 is failing: é" and mail["Message-ID"] == "<abc-7@house.example>"
    assert mail["Auto-Submitted"] == "auto-generated"
    text = mail.get_content()  # type: ignore[attr-defined]
    assert "[before long] Drive 0 is failing: é." in text and "https://shelf.house.example/trouble/0" in text
    many = as_mail(said(40), "s@house.example", "i@house.example").get_content()
    assert many.count("/trouble/") == MOST_LINES and "And 28 more: https://shelf.house.example/" in many
    assert "Nothing is the matter" in as_mail(said(0, "test"), "s@h.example", "i@h.example").get_content()
    assert (
        as_mail(said(2, "over"), "s@h.example", "i@h.example").get_content().startswith("All is well again. Over are:")
    )


def test_an_event_is_a_cloud_event_and_its_signature_can_be_checked() -> None:
    secret = new_secret()
    headers, body = as_event(said(2), secret, BEGIN)
    event = json.loads(body)
    assert headers["Content-Type"].startswith("application/cloudevents+json")
    assert (event["specversion"], event["id"], event["type"]) == ("1.0", "abc-7", "pairshelf.needs-you")
    assert event["source"] == "https://shelf.house.example/" and event["time"].startswith("2026-05-04T08:00:00")
    assert event["data"]["matters"][1] == {"urgency": "before long", "sentence": "Drive 1 is failing: é.",
                                           "url": "https://shelf.house.example/trouble/1"}  # fmt: skip
    # As a receiver checks it, with nothing of ours.
    signed = f"{headers['Webhook-Id']}.{headers['Webhook-Timestamp']}.".encode() + body
    mac = hmac.new(base64.b64decode(secret[6:]), signed, hashlib.sha256).digest()
    assert headers["Webhook-Signature"] == "v1," + base64.b64encode(mac).decode()
    assert (
        signature(secret, "abc-7", 1, body)
        != signature(secret, "abc-8", 1, body)
        != signature(new_secret(), "abc-7", 1, body)
    )


def test_gathering_is_shorter_than_settling() -> None:
    assert dt.timedelta() < GATHER < SETTLE
