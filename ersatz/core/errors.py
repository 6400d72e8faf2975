"""The core's own exceptions. Each message is one sentence that a producer can act on."""


class ErsatzError(Exception):
    """Base of everything the core raises on purpose."""


class UnusableAudio(ErsatzError):
    """The file can't be surveyed: not audio, empty, silent, too short, too long, too many channels."""


class UnusableDocument(ErsatzError):
    """A survey or song document that can't be read."""


class NoTempo(ErsatzError):
    """A draft was asked for from a survey whose tempo can't be trusted, and no tempo was given."""


class OtherMetre(ErsatzError):
    """A remake was asked for of a reference that doesn't count in fours."""


class InvalidEdit(ErsatzError):
    """An edit that doesn't fit the song it is applied to."""


class Cancelled(ErsatzError):
    """The producer cancelled the work."""
