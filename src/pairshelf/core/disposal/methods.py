"""Which method reaches which category on which drive, and why the others do not: one table (rules: wiping).

Category names and what each asks for: NIST SP 800-88. Overwriting through the interface is Clear: it misses what a drive
has reassigned and, of flash, the spare area. Purge needs the drive's own commands, or a key that is gone.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pairshelf.core.disposal.facts import Category, Command, DriveFacts
from pairshelf.core.errors import BadInput, NotPossible


@dataclass(frozen=True, slots=True)
class Method:
    """A way to wipe a drive."""

    id: str
    name: str
    #: What it does, in a sentence.
    about: str
    #: The best category it can reach at all.
    reaches: Category
    #: Times that everything is written through.
    passes: int
    #: The command it gives the drive; None: it writes through the interface, or a person does it.
    command: Command | None
    #: Why it cannot be done on a drive, or None.
    refuses: Callable[[DriveFacts], str | None]
    #: Why it only reaches Clear on a drive, or None.
    misses: Callable[[DriveFacts], str | None] = lambda _facts: None
    #: Whether it goes on where it was after an interruption; otherwise it begins anew.
    goes_on: bool = True
    #: Done by a person, and only recorded here.
    by_hand: bool = False

    def category(self, facts: DriveFacts) -> Category | None:
        """What it reaches on a drive; None where it cannot be done."""
        if self.refuses(facts) is not None:
            return None
        return Category.CLEAR if self.reaches is not Category.DESTROY and self.misses(facts) else self.reaches

    def why_not(self, facts: DriveFacts, wanted: Category) -> str | None:
        """Why it does not reach a category on a drive, or None where it does."""
        if refused := self.refuses(facts):
            return refused
        reached = self.category(facts)
        if reached is None or _ORDER[reached] < _ORDER[wanted]:
            return self.misses(facts) or f"It reaches {(reached or Category.CLEAR).value.title()} at most."
        return None


_ORDER = {Category.CLEAR: 0, Category.PURGE: 1, Category.DESTROY: 2}


def _silent(facts: DriveFacts) -> str | None:
    if facts.condition == "missing":
        return "It is not in a bay."
    return "It does not answer." if facts.identity is None or facts.condition == "failed" else None


def _knows(command: Command, named: str) -> Callable[[DriveFacts], str | None]:
    def refuses(facts: DriveFacts) -> str | None:
        if why := _silent(facts):
            return why
        assert facts.identity is not None
        return None if command in facts.identity.commands else f"The drive does not report {named}."

    return refuses


def _not_all(facts: DriveFacts) -> str | None:
    """What writing through the interface does not reach."""
    identity = facts.identity
    if identity is None:
        return None
    if facts.flash:
        return "Flash keeps older copies in its spare area, which writing does not reach."
    if identity.reassigned:
        return f"{identity.reassigned} extents were reassigned; what stood in them is out of reach of writing."
    return "It cannot be known that nothing was ever reassigned; writing does not reach that."


def _crypto(facts: DriveFacts) -> str | None:
    if why := _knows(Command.CRYPTO_ERASE, "cryptographic erase")(facts):
        return why
    assert facts.identity is not None
    return None if facts.identity.encrypts else "It does not encrypt everything from the first write on."


def _sealed(facts: DriveFacts) -> str | None:
    if why := _silent(facts):
        return why
    if facts.sealed_by is None:
        return "Not all that was ever written to it was encrypted by a pool whose key is gone."
    return None


def _nothing(_facts: DriveFacts) -> str | None:
    return None


METHODS: dict[str, Method] = {
    m.id: m
    for m in (
        Method("overwrite", "overwriting", "Everything that the drive shows is written over once, protected capacity opened first.",
               Category.CLEAR, 1, None, _silent, _not_all),
        Method("write-zeroes", "write zeroes", "The drive is told to zero all it shows.", Category.CLEAR, 1,
               Command.WRITE_ZEROES, _knows(Command.WRITE_ZEROES, "write zeroes"), _not_all),
        Method("sanitize-overwrite", "sanitise by overwriting", "The drive overwrites everything it has, hidden areas too.",
               Category.PURGE, 1, Command.SANITIZE_OVERWRITE, _knows(Command.SANITIZE_OVERWRITE, "sanitise by overwriting")),
        Method("block-erase", "block erase", "The drive erases every block of its flash, the spare area too.", Category.PURGE, 0,
               Command.BLOCK_ERASE, _knows(Command.BLOCK_ERASE, "block erase"), goes_on=False),
        Method("format", "format with user data erased", "The drive formats itself anew and erases what users wrote.",
               Category.CLEAR, 0, Command.FORMAT, _knows(Command.FORMAT, "formatting with erasure"),
               lambda _f: "Formatting need not reach the spare area.", goes_on=False),
        Method("crypto-erase", "cryptographic erase", "The drive changes the key by which it encrypts everything.", Category.PURGE, 0,
               Command.CRYPTO_ERASE, _crypto, goes_on=False),
        Method("key-gone", "the pool's key destroyed",
               "Only an encrypted pool ever wrote to it, and the key of that is gone.", Category.PURGE, 0, None, _sealed,
               goes_on=False),
        Method("destroy", "destruction", "The drive is shredded, melted or degaussed; who did it is recorded.", Category.DESTROY, 0,
               None, _nothing, by_hand=True),
    )
}  # fmt: skip


def method_of(name: str) -> Method:
    """A method by its id. BadInput for one that is not."""
    if name not in METHODS:
        raise BadInput(f"There is no method {name}; there are {', '.join(METHODS)}.", field="methods")
    return METHODS[name]


@dataclass(frozen=True, slots=True)
class Offer:
    """A method on one drive, for a category wanted."""

    method: Method
    #: What it reaches there; None: it cannot be done.
    category: Category | None
    #: Why it does not reach what is wanted, or None.
    why_not: str | None
    #: Why it is the one suggested, or None.
    suggested: str | None = None


def offers(facts: DriveFacts, wanted: Category) -> tuple[Offer, ...]:
    """Every method on a drive, those that reach the category first, one of them suggested with its reason."""
    found = [Offer(m, m.category(facts), m.why_not(facts, wanted)) for m in METHODS.values()]
    able = [o for o in found if o.why_not is None]
    best = _best(facts, able)
    marked = [Offer(o.method, o.category, o.why_not, best[1]) if best and o is best[0] else o for o in found]
    return tuple(sorted(marked, key=lambda o: (o.why_not is not None, o.suggested is None)))


#: In the order in which one is suggested, with the reason.
_BECAUSE = (
    ("key-gone", "All that stands on it is ciphertext without a key; only that is verified."),
    ("block-erase", "It reaches the spare area too, and takes the drive about a minute."),
    ("crypto-erase", "It encrypts everything by itself: with another key nothing can be read, at once."),
    ("sanitize-overwrite", "The drive reaches what it has reassigned too; writing from outside does not."),
    ("overwrite", "It can be verified to the byte, and every drive knows it."),
    ("write-zeroes", "It is as good as overwriting, and spares the link."),
    ("destroy", "No other method reaches this category on this drive."),
)


def _best(facts: DriveFacts, able: list[Offer]) -> tuple[Offer, str] | None:
    by_id = {o.method.id: o for o in able}
    # Of a disk a key changed is believed of the drive alone; where it can be overwritten, that is seen. But none need be
    # destroyed that can change its key.
    order = _BECAUSE if facts.flash else sorted(_BECAUSE, key=lambda b: (b[0] == "destroy", b[0] == "crypto-erase"))
    return next(((by_id[name], why) for name, why in order if name in by_id), None)


def chosen(facts: DriveFacts, wanted: Category, name: str) -> Method:
    """The method asked for, or the one suggested. NotPossible, with the reason, for one that does not reach the
    category on this drive."""
    if not name:
        best = next((o for o in offers(facts, wanted) if o.suggested), None)
        assert best is not None, "destruction is always possible"
        return best.method
    method = method_of(name)
    if why := method.why_not(facts, wanted):
        raise NotPossible(f"{method.name}: {why}", code="does-not-reach", field="methods")
    return method
