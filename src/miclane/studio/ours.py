"""The chains that come with Mic Lane, one for each need; each was made and measured on a lane of the demo song."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.mix.chain import Chain, read_chain
from ..store.chains import ChainStore

FOLDER = Path(__file__).parent.parent / "chains"


@dataclass(frozen=True)
class Ours:
    """A chain with what is said of it: `made` as of `store.chains.Kept`."""

    id: str
    chain: Chain
    note: str
    tags: list[str]
    made: dict[str, Any]


def ours() -> list[Ours]:
    """All of them, in the order in which they are shown."""
    found = []
    for name, about in json.loads((FOLDER / "about.json").read_text()).items():
        chain = read_chain((FOLDER / f"{name}.chain.json").read_bytes(), name)
        made = {"place": about["place"], "session": "Salt Ferry", "path": about["lane"], "measured": about["measured"]}
        found.append(Ours(f"ours-{name}", chain, about["note"], about["tags"], made))
    return found


def supply(chains: ChainStore) -> None:
    """Put those into the library that were never in it; what was deleted stays so."""
    known = chains.ever()
    for k, one in enumerate(ours()):
        if one.id not in known:
            chains.keep(
                one.chain, "", one.note, one.tags, one.made, identifier=one.id, created=f"2026-01-01T00:00:{59 - k}"
            )
