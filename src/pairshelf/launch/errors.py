"""What can stop a start, each in one clear sentence."""


class CannotStart(Exception):
    """The sentence says what is in the way and what to do."""
