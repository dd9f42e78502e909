"""What each stage is for, when not to use it, what to listen for, and what fools one there: four sentences a kind."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Help:
    """Said of a stage where it is set."""

    purpose: str
    not_when: str
    listen: str
    fools: str


HELP: dict[str, Help] = {
    "trim": Help(
        "Brings loud and quiet phrases together before any compressor has to, and the take to a usual level.",
        "Inside a phrase: for single words ride it, or let the compressors work.",
        "Whether the next stages do about as much in the verse as in the chorus.",
        "A chorus that is trimmed to the verse loses its lift; leave it some of the way.",
    ),
    "ride": Help(
        "Follows the loudness of phrases as a hand on the fader would, slowly, and stays where nothing is sung.",
        "Where the level is the performance: a line that dies away should be let.",
        "Ends of phrases and breaths: they must not swell.",
        "Its curve looks busy long before it sounds busy; and looks still while it eats a crescendo.",
    ),
    "gate": Help(
        "Turns down what lies between the phrases: noise, headphones, a room.",
        "Noise under the words is not reached by it; and most takes in a full mix need none.",
        "First consonants and last breaths, in solo; then whether the gaps sound cut out.",
        "In solo silence seems clean; in the mix a voice whose room goes on and off draws attention.",
    ),
    "tune": Help(
        "Brings single notes to pitch: most want it for two or three notes of a song, and nothing else.",
        "On a line that is meant a little under or over; on rap, rough or breathy parts, which it leaves alone.",
        "The beginnings and ends of notes: they must still be reached and left, not switched.",
        "In solo a flat note hurts; beside the music half of them do not. Tuned all over it is right and nobody's.",
    ),
    "tame": Help(
        "Holds down what rings, only while it rings: a room, a headphone, a note that jumps out wherever it is sung.",
        "Where one cut in the EQ does it: that is plainer, and the ear gets used to what never moves.",
        "The body of the voice, with the stage off and on: it must not get thin or swim.",
        "What it takes sounds ugly alone, whatever it is: that it is ugly is no proof that it had to go.",
    ),
    "sway": Help(
        "Keeps a held voice, a backing or a return from standing still: tone, level or pitch go slowly to and fro.",
        "On a lead that is to be close and plain; and never to hide a take that is dull.",
        "Turn it until you notice, then back a little; switch it off after a minute and see whether you miss it.",
        "In solo a little seems nothing, and twice as much seems rich; in mono half of it may be gone, or doubled.",
    ),
    "plosive": Help(
        "Turns down bursts of air at p and b, only while they last, only beneath the notes.",
        "When a low cut alone does it: that costs nothing.",
        "The consonant must stay; only the thump goes.",
        "Small loudspeakers do not play what it is about; trust the marks, or large ones.",
    ),
    "eq": Help(
        "Takes out what rings or booms with narrow cuts, then shapes the tone with broad ones.",
        "For single moments: a dynamic band, a trim or another take.",
        "The low cut: raise it until the voice gets thin, then back off. A cut: hear it bypassed in the mix.",
        "Whatever is boosted to be found sounds ugly, everywhere. It is a ring only if it stays while the notes move.",
    ),
    "deess": Help(
        "Turns down s, sh and ch that stand out of the voice around them, as far as each does.",
        "For a bright voice as a whole: that is the EQ's.",
        "What it listens to, alone: only sibilants should be in it. Then turn it up until she lisps, and back.",
        "After a minute of s everything lisps. Loop another line, and bypass it several times.",
    ),
    "compressor": Help(
        "Turns down what is over the threshold: fast for peaks and consonants, slow for level.",
        "To do 14 dB alone: two that do 5 each are heard less. And not for what a trim does better.",
        "Attack: whether words still begin. Release: whether it has let go before the next word, or pumps.",
        "Louder is not better: in and out equally loud, or its makeup convinces instead of its sound.",
    ),
    "multiband": Help(
        "Holds parts of the spectrum still that come and go: a boom on low notes, an edge when she pushes.",
        "When an EQ would do all the time: four bands of compression flatten the colour of a voice.",
        "Each band alone, then all of it against bypass, on quiet and loud lines.",
        "It makes everything sound finished at once; the next morning it is flat.",
    ),
    "lift": Help(
        "Brings up quiet words and ends of lines, and leaves loud ones as they are.",
        "On takes with noise or a room: those come up as well, and it says when.",
        "Breaths and mouth sounds between the words.",
        "Detail seems like closeness until the whole mix is full of it.",
    ),
    "limiter": Help(
        "Holds the last peaks under a ceiling, between the samples too.",
        "To make it loud: more than a few dB here take the front off every word.",
        "Consonants, with and without.",
        "Nothing clips any more, so it seems safe to push; it is the punch that goes.",
    ),
    "drive": Help(
        "Adds harmonics: body on small loudspeakers, an edge that cuts without boosting.",
        "On what is harsh already; harmonics of sibilants are more sibilance.",
        "Push it far too hard, hear what it does, pull it back until it is only missed when gone.",
        "It is made as loud as before; without that any drive would sound better.",
    ),
    "split": Help(
        "Sets copies beside the voice, treated on their own, and blends them in: weight that leaves word starts be.",
        "When one compressor more would do: two paths are two things to keep in tune.",
        "Blend from nothing until quiet words stay, then a little less.",
        "The copy alone sounds terrible, and should; only the sum counts.",
    ),
    "chorus": Help(
        "Widens or doubles a voice by copies a little late and a little out of tune.",
        "On a lead that must stand in the middle and close: send it to a return instead.",
        "The mix in mono: what the copies cancel is gone there.",
        "Wide is impressive in solo; beside guitars it is only blurred.",
    ),
    "reverb": Help(
        "Puts the voice in a place, on a return, where it can be filtered and held down.",
        "To make a dull take interesting: it comes closer by less, not by more.",
        "In the mix: turn it down until it is no longer heard as an effect. In solo there is still plenty.",
        "A pre-delay that is right for slow lines smears quick ones.",
    ),
    "impulse": Help(
        "Answers as a real place did, once: its early sound is what no model has.",
        "Where the decay must be set: it can be shortened, hardly lengthened.",
        "Whether the place has a tone of its own that fights the song's key.",
        "Every good recording of a place is loud and full; match it before you judge.",
    ),
    "delay": Help(
        "Repeats in time with the song: fills gaps that a reverb would blur.",
        "On every word: throw it on the last of a line, or let the voice hold it down.",
        "Repeats against the next words, and whether their tops stay out of the way.",
        "What grooves alone may trip over the drums; tap the tempo, do not guess it.",
    ),
    "duck": Help(
        "Holds a return down while the dry voice sings, and lets it come back in the gaps.",
        "Before the effect: there would be nothing left to fill the gap with. It shows why.",
        "First consonants must be clear, and the return back before the gap is over.",
        "A deep duck seems clean in the loop of one line; on long notes the place vanishes.",
    ),
}
