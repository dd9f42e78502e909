"""When ears are no longer to be trusted, and how that is said: once, gently, and nothing stops.

After minutes of the same few sounds hearing adapts to them: loud sibilance seems softer than it is, and what is normal
seems to lisp (adaptation to a sustained spectrum; Summerfield, Sidwell and Nelson, JASA 81, 1987).
"""

from dataclasses import asdict, dataclass


@dataclass(frozen=True)
class Ears:
    """`loop_s` of one phrase or less, `session_s` of sound without `rest_s` of silence, each with its words."""

    loop_s: float = 180.0
    session_s: float = 3600.0
    rest_s: float = 120.0
    loop_words: str = (
        "Three minutes of the same phrase: after that nearly everything lisps. "
        "Another line, or a moment of silence, tells more."
    )
    session_words: str = "An hour without silence. After a few minutes away, what is too much will be plain."


def told() -> dict[str, float | str]:
    """As the pages have it."""
    return asdict(Ears())
