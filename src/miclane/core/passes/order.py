"""The passes, in the order in which nearly everyone works: what each is for, and what one should hear after it."""

from dataclasses import dataclass
from typing import Literal

PassId = Literal["level", "clean", "deess", "control", "weight", "tone", "space", "backings", "fit", "keep"]


@dataclass(frozen=True)
class Pass:
    """One of them. `of_lane` is whether it is worked at lane by lane."""

    id: PassId
    title: str
    does: str
    hear: str
    of_lane: bool = True


PASSES: tuple[Pass, ...] = (
    Pass(
        "level",
        "Listen and level",
        "Before any compressor has to: loud and quiet phrases of the raw take are brought together by hand.",
        "No line makes you reach for the fader, and the chorus is still more than the verse.",
    ),
    Pass(
        "clean",
        "Clean",
        "What never was the voice goes: noise between phrases, hum, rumble, bursts of air, what rings and what booms.",
        "The gaps are quiet and not cut out; the voice is no thinner.",
    ),
    Pass(
        "deess",
        "De-ess",
        "Sibilants that stand out of the voice are turned down, and nothing else. Loop a line full of them.",
        "She does not hiss and she does not lisp; in the mix you forget that it is on.",
    ),
    Pass(
        "control",
        "Control, in series",
        "Loud words come down in two or three small steps, a fast one and a slow one, each as loud out as in.",
        "Words still begin, nothing pumps, and no word jumps out of its line.",
    ),
    Pass(
        "weight",
        "Control, in parallel",
        "A crushed copy beside the voice holds up the quiet words; blended in from nothing.",
        "Ends of lines stay; the copy itself is only missed when it is gone.",
    ),
    Pass(
        "tone",
        "Tone",
        "Broad boosts while the music plays: presence to cut through, air for closeness, some drive.",
        "The words come forward without an edge. Boosts bring sibilants back: look at De-ess again.",
    ),
    Pass(
        "space",
        "Space",
        "Reverbs and delays on returns, filtered, and held down by the dry voice while it sings.",
        "In the mix no effect, in solo plenty; the gaps fill up, the words stay dry.",
        of_lane=False,
    ),
    Pass(
        "backings",
        "Backings",
        "The lead's chain thinned: higher low cut, no presence, no air, more compression, apart and quieter.",
        "You follow the lead without trying, and miss the others when they are muted.",
        of_lane=False,
    ),
    Pass(
        "fit",
        "Fit",
        "What in the music stands over the words gives way: a narrow pocket, only while the voice is there.",
        "Every word, at a low level, without the music being small.",
        of_lane=False,
    ),
    Pass(
        "keep",
        "Keep",
        "The chain on the shelf, the mix and the stems printed, the settings written down.",
        "The print beside the raw take: what was meant, and nothing more.",
        of_lane=False,
    ),
)
