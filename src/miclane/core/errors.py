"""What can go wrong, in words. Turned into pages and exit codes at the edges."""


class MicLaneError(Exception):
    """Base of every error whose text is meant for the user."""


class UnusableSoundError(MicLaneError):
    """A sound file that cannot be taken in."""


class CutShortError(UnusableSoundError):
    """A sound file that holds less than its header promises; it can be taken as it is when that is asked for."""


class UnusableChainError(MicLaneError):
    """A chain or session file with an unknown kind, field or value; names the place."""


class UnusableValueError(MicLaneError):
    """Something typed that is not a value of the unit it was typed for."""


class UnsoundError(MicLaneError):
    """Something that would be no sound any more, or one that no loudspeaker stands; names the stage."""


class NothingThereError(MicLaneError):
    """Nothing is sung, or sounds, where something was to be measured."""


class UnknownPlaceError(MicLaneError):
    """An edit or address that names something that is not in the session."""


class UnreadableError(MicLaneError):
    """A stored session that cannot be read: damaged, of a newer version, or against today's rules."""


class UnusableDataError(MicLaneError):
    """A data folder that cannot be worked in: read-only, in use, full, or of a newer version."""


class DamagedDataError(UnusableDataError):
    """A database that is no longer sound; names the newest backup."""


class ConflictError(MicLaneError):
    """An edit made against an old state that touches what has changed since."""


class CancelledError(MicLaneError):
    """Work given up because something newer overtook it or the user asked."""


class UnusableArchiveError(MicLaneError):
    """An archive of a session of which nothing can be used."""
