"""Measures the chains that come with Mic Lane on their lanes of the demo, and writes it beside them."""

import json
import tempfile
from pathlib import Path

from miclane.core.mix.chain import read_chain
from miclane.demo.seed import seed
from miclane.studio.library import measured_of, put_on
from miclane.studio.ours import FOLDER
from miclane.studio.studio import Studio


def main() -> None:
    """Put each on its lane as it is, measure, write about.json."""
    about = json.loads((FOLDER / "about.json").read_text())
    with tempfile.TemporaryDirectory() as data:
        studio = Studio(Path(data), owner=True)
        begin = seed(studio.sessions, studio.sounds)
        for name, told in about.items():
            chain = read_chain((FOLDER / f"{name}.chain.json").read_bytes(), name)
            state = studio.sessions.go_to(begin.id, 0)
            kept = studio.chains.keep(chain, name)
            state, left_out = put_on(studio, state, kept, [told["lane"]], "replace", ())
            assert not left_out, left_out
            lane = state.session.lane(told["lane"])
            told |= {"place": lane.name, "measured": measured_of(studio, state, lane)}
            for line in told["measured"]:
                print(f"{name}: {line['name']} {line['first']} to {line['last']} {line['unit']}")
        studio.close()
    (FOLDER / "about.json").write_text(json.dumps(about, indent=1, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
