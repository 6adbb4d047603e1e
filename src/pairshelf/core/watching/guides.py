"""What is to be said of each sort of trouble beside its sentence: what still holds, why the one right act is right, what
else would do, and what must not be done now, with the reason. Pools in which drives are missing have their own
(``trouble``): there it depends on which."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.watching.trouble import Blocked


@dataclass(frozen=True, slots=True)
class Guide:
    """What is said of one sort of trouble. ``act``: the one right act, where that is another than the matter names."""

    still: str
    why: str
    act: str = ""
    #: Where that is done, if not where the matter says.
    to: str = ""
    #: What else would do: in words, and where under the pool or the drive.
    also: tuple[tuple[str, str], ...] = ()
    blocked: tuple[Blocked, ...] = ()


GUIDES: dict[str, Guide] = {
    "differ": Guide(
        "The pool serves. What is wrong is in single files; all others are as they were written.",
        "The page of the pool names them. They come back from the backup: nothing in the pool holds them as they were.",
        blocked=(
            Blocked("Making the next backup over the last one", "The last one may be all that holds these files as they were. Keep it until they are back."),
            Blocked("Deleting the files", "As long as they are there, a check can say which parts of them are right."),
        ),
    ),
    "mismatch": Guide(
        "Everything can be read. Somewhere data and redundancy disagree, and which of them is wrong cannot be told from them alone.",
        "The report says where. Reading the files back tells whether any of them is hurt: their checksums are kept.",
        also=(("Read all files back", ""),),
        blocked=(
            Blocked("Replacing a drive on suspicion", "Nothing says yet which drive was wrong. A rebuild would take its content from what may be wrong."),
        ),
    ),
    "room": Guide(
        "Nothing is lost. What stands there can be read, and written over; only what needs new room has to wait.",
        "Writes that wait go on by themselves as soon as there is room.",
        also=(
            ("Reclaim what was deleted, and empty the bins", ""),
            ("Add drives, a set, or larger ones", "/grow"),
            ("Move a volume to another pool", ""),
        ),
        blocked=(
            Blocked("Deleting a volume in haste", "Look first at what would come back by itself: what was deleted, and what lies in bins."),
            Blocked("Promising more", "Another thin volume takes its room from those that wait."),
        ),
    ),
    "locked": Guide(
        "Nothing is lost. All data are there, and cannot be read by anybody until it is unlocked.",
        "Whoever keeps its passphrase types it on the page of the pool. Everything that uses it goes on then.",
        blocked=(
            Blocked("Taking it apart, or building on its drives", "Without its key its data are gone for good, and no backup of the key is on the drives."),
        ),
    ),
    "unkept": Guide(
        "It is unlocked and serves. Should it be locked, or its host be switched off, nobody could open it again.",
        "Write the passphrase down where it is found without this computer, and say so; or make a new one while that can be done.",
        blocked=(
            Blocked("Locking it, or switching its host off", "Without the passphrase its data are lost at that moment."),
        ),
    ),
    "spoilt": Guide(
        "It belongs to no pool. What stood on it can still be read by whoever has it.",
        "Wipe it again by a method that it takes, or have it destroyed; either is recorded.",
        blocked=(
            Blocked("Handing it out, or throwing it away", "What is left on it can be read. It has no certificate, and is not handed out without one."),
        ),
    ),
    "backup": Guide(
        "Everything serves. Should it be lost today, what changed since the last copy is lost with it.",
        "Make a copy now, and record on the page of the pool that there is one. Redundancy is no backup.",
        blocked=(
            Blocked("Large changes to the pool", "They are safe by what is known. A copy is for what is not: make it first."),
        ),
    ),
    "worker": Guide(
        "Volumes serve as they did. Nothing is built, rebuilt, copied or noticed meanwhile; what was under way goes on where it was.",
        "The start command brings it back by itself within seconds. If it does not, look at what that has written last.",
        act="Start it again: make start",
        blocked=(
            Blocked("Pulling or exchanging drives", "Nobody would notice, and no spare would take over, until it is back."),
        ),
    ),
    "watcher": Guide(
        "Volumes serve, and jobs go on. What happens meanwhile is shown on the screens, and nobody is told of it.",
        "The start command brings it back by itself within seconds. If it does not, look at what that has written last.",
        act="Start it again: make start",
        blocked=(
            Blocked("Relying on messages", "No message is sent, also of what presses. Look at Today until it is back."),
            Blocked("Reading charts up to now", "What is not recorded now is missing from them later."),
        ),
    ),
    "disk": Guide(
        "Everything can be read. Jobs are held, so that none is half done.",
        "Jobs go on by themselves as soon as there is room on the disk on which this runs.",
        act="Free some of the disk beneath",
        blocked=(
            Blocked("Deleting files of the application", "Its database and its devices' own files are all that holds what it knows."),
        ),
    ),
    "failing": Guide(
        "It is in no pool: no data depend on it.",
        "Its readings speak against it. Wipe it while it still takes that, and let it go.",
        act="Let it go while it can still be wiped",
        to="/disposal",
        blocked=(
            Blocked("Building on it, or letting it stand by", "It would fail when it is needed. It is not offered for either."),
        ),
    ),
    "warns": Guide(
        "It works, and what it stores is as protected as ever.",
        "It may be nothing. Look at the reading in question and how it moved; if it goes on, replace the drive while it reads.",
        blocked=(
            Blocked("Pulling it to look at it", "That would cost the redundancy that a failing drive is to be copied with."),
        ),
    ),
    "scan": Guide(
        "It works. Some of its sectors could not be read; in a pool with redundancy they can be computed from the others.",
        "A surface scan reads everything, has what cannot be read written anew, and then knows whether the drive is failing.",
        blocked=(
            Blocked("Pulling another drive of its pool", "Where this one cannot be read, the others are needed."),
        ),
    ),
    "link": Guide(
        "The drive itself is well by its readings. What is repeated is on the way to it; no data are wrong.",
        "Reseat the drive or its cable, or put it into another bay: then see whether the count goes on.",
        blocked=(
            Blocked("Replacing the drive", "A new one on the same cable or in the same bay would give the same trouble."),
        ),
    ),
}  # fmt: skip
