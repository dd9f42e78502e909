"""Fit: how soon the map of a loop and of the whole song is there, cold and after edits, and what would help."""

import statistics
import tempfile
import time

import httpx

RATE, LOOPS_S = 48000, ((20.5, 28.5), (20.5, 36.0))
EDITS = (
    ("a stem's fader", "lanes/pad/fader_db"),
    ("a stage of the lead", "lanes/lead/stages/peaks/threshold_db"),
    ("a return's fader", "returns/plate/fader_db"),
)


def run() -> None:
    """Print seconds to the words and the map of a loop of 15.5 s, of the song, and to the answers."""
    from .server import demo, root

    with tempfile.TemporaryDirectory() as folder, demo(folder, 18760) as address, httpx.Client(timeout=300) as web:
        where = f"{root(address)}/s/salt-ferry"
        time.sleep(8)  # the warm-up behind the first page
        loop = {"first": 0, "last": 0}
        for first, last in LOOPS_S:
            loop = {"first": round(first * RATE), "last": round(last * RATE)}
            heard = {"lane": "lead", "hear": "mix", "start": loop["first"], "stop": loop["last"]}
            web.get(f"{where}/sound", params=heard)
            print(f"loop of {last - first:g} s that has been rendered: {_timed(web, where, loop)}")
            for name, path in EDITS:
                waits = [_after(web, where, loop, path, -6.0 - 0.1 * k - 0.03 * last) for k in range(10)]
                told = [f"median {statistics.median(w):.0f}, slowest {max(w):.0f} ms" for w in zip(*waits, strict=True)]
                print(f"loop of {last - first:g} s after {name}: map after {told[0]}; words too after {told[1]}")
        begun = time.perf_counter()
        assert web.get(f"{where}/fit/answers", params=loop).status_code == 200
        print(f"answers: {1000 * (time.perf_counter() - begun):.0f} ms")
        song = {"first": 0, "last": round(54.3 * RATE)}
        print(f"whole song (54 s): {_timed(web, where, song)}")
        print(f"whole song after a stem's fader: {_after(web, where, song, EDITS[0][1], -9.0)[1]:.0f} ms")


def _timed(web: httpx.Client, where: str, span: dict[str, int]) -> str:
    begun = time.perf_counter()
    for what in ("map", "words"):
        answer = web.get(f"{where}/fit/{what}", params=span)
        assert answer.status_code == 200, answer.text
    return f"map and words after {1000 * (time.perf_counter() - begun):.0f} ms"


def _after(web: httpx.Client, where: str, span: dict[str, int], path: str, value: float) -> tuple[float, float]:
    """Milliseconds from an edit to the map, and to the words as well."""
    edit = {"op": "set", "path": path, "value": value}
    begun = time.perf_counter()
    answer = web.post(f"{where}/edits", json={"edits": [edit]}, headers={"origin": where.split("/s/")[0]})
    assert answer.status_code == 200, answer.text
    found = []
    for what in ("map", "words"):
        assert web.get(f"{where}/fit/{what}", params=span).status_code == 200
        found.append(1000 * (time.perf_counter() - begun))
    return found[0], found[1]
