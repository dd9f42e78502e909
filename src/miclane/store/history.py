"""How the edits of one gesture become one step of the history."""

from dataclasses import dataclass

from ..core.mix.edits import Edit, Set


@dataclass(frozen=True)
class LastStep:
    """The last step of a session at a version: what it is called, what of, and what it did."""

    version: int
    label: str
    gesture: str
    edits: list[Edit]
    inverses: list[Edit]


def one_step(
    done: list[Edit], undone: list[Edit], edits: list[Edit], inverses: list[Edit]
) -> tuple[list[Edit], list[Edit]]:
    """Edits and inverses of a step (`done`, `undone`) with more edits of the same gesture after it.

    Of a value that is set again only the newest is kept, unless something between has changed what lies around it.
    """
    made, back = list(done), list(undone)
    for edit, inverse in zip(edits, reversed(inverses), strict=True):
        place = _same_value(made, edit)
        if place is None:
            made.append(edit)
            back.insert(0, inverse)
        else:
            made[place] = edit
    return made, back


def _same_value(made: list[Edit], edit: Edit) -> int | None:
    """Where the value that an edit sets was set before with nothing that reaches into it since."""
    if not isinstance(edit, Set):
        return None
    for k in range(len(made) - 1, -1, -1):
        before = made[k]
        if isinstance(before, Set) and before.path == edit.path:
            return k
        if not isinstance(before, Set) or _related(before.path, edit.path):
            return None
    return None


def _related(a: str, b: str) -> bool:
    return a.startswith(b + "/") or b.startswith(a + "/")
