"""Draws docs/responses.svg: what each response of the compressor does, measured on the compressor that is shipped."""

import sys
from pathlib import Path

import numpy as np

from miclane.core.stages.compressor import Compressor

RATE = 48000
NAMES = {"clean": "clean", "fet": "FET", "optical": "optical", "variable_mu": "variable-mu"}
WIDE, TALL, GAP, LEFT, TOP = 250, 150, 62, 52, 56
INK, HAIR, VOICE, TAKEN, PENCIL = "#1f2328", "#dcd6c9", "#b5472e", "#6a3b78", "#5f636a"


def tone(*parts: tuple[float, float]) -> np.ndarray:
    """A 997 Hz sine at levels in dBFS, each for so many seconds."""
    pieces = []
    for level, seconds in parts:
        t = np.arange(round(seconds * RATE)) / RATE
        pieces.append(10 ** (level / 20) * np.sin(2 * np.pi * 997 * t))
    return np.concatenate(pieces)[None]


def gain_db(stage: Compressor, x: np.ndarray) -> np.ndarray:
    """Gain in dB (n,) that a stage applies to x."""
    processor = stage.build(RATE, 1)
    processor.process(x)
    assert processor.gain_db is not None
    return processor.gain_db


def stage_of(response: str, **more: float) -> Compressor:
    """Threshold −30 dB, 4:1, 2 ms, 80 ms; the same for all."""
    settings = {"threshold_db": -30.0, "ratio": 4.0, "knee_db": 6.0, "attack_ms": 2.0, "release_ms": 80.0, **more}
    return Compressor.model_validate({"response": response, **settings})


def shown(value: float) -> str:
    """A number of an axis."""
    return f"{value:g}".replace("-", "−")


class Panel:
    """A rectangle of the drawing with axes of its own."""

    def __init__(self, row: int, column: int, x: tuple[float, float], y: tuple[float, float]) -> None:
        self.left, self.top = LEFT + column * (WIDE + GAP), TOP + row * (TALL + GAP)
        self.x, self.y = x, y
        self.parts: list[str] = []

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Place of a value in the drawing."""
        u, v = (x - self.x[0]) / (self.x[1] - self.x[0]), (y - self.y[0]) / (self.y[1] - self.y[0])
        return self.left + u * WIDE, self.top + TALL - min(max(v, 0), 1) * TALL

    def line(self, x: np.ndarray, y: np.ndarray, colour: str, dash: str = "", width: float = 1.6) -> None:
        """A curve."""
        points = "L".join("{:.1f} {:.1f}".format(*self.at(a, b)) for a, b in zip(x, y, strict=True))
        self.parts.append(
            f'<path d="M{points}" fill="none" stroke="{colour}" stroke-width="{width}" stroke-dasharray="{dash}"/>'
        )

    def frame(self, title: str, across: list[float], up: list[float], unit: str) -> str:
        """Axes, title, curves."""
        out = [f'<text x="{self.left}" y="{self.top - 8}" font-size="12" fill="{INK}">{title}</text>']
        for v in across:
            x, _ = self.at(v, self.y[0])
            out.append(f'<line x1="{x:.1f}" x2="{x:.1f}" y1="{self.top}" y2="{self.top + TALL}" stroke="{HAIR}"/>')
            out.append(f'<text x="{x:.1f}" y="{self.top + TALL + 14}" text-anchor="middle" class="n">{shown(v)}</text>')
        for v in up:
            _, y = self.at(self.x[0], v)
            out.append(f'<line x1="{self.left}" x2="{self.left + WIDE}" y1="{y:.1f}" y2="{y:.1f}" stroke="{HAIR}"/>')
            out.append(f'<text x="{self.left - 6}" y="{y + 4:.1f}" text-anchor="end" class="n">{shown(v)}</text>')
        where = f'x="{self.left + WIDE}" y="{self.top + TALL + 28}" text-anchor="end" class="n"'
        out.append(f"<text {where}>{unit}</text>")
        return "".join([*out, *self.parts])


def draw() -> str:
    """All panels: a row a response; static curve at three ratios, attack and release, release after short and long."""
    panels = []
    for row, response in enumerate(NAMES):
        curve = Panel(row, 0, (-60, 0), (-60, 0))
        level = np.linspace(-60, 0, 121)
        for ratio, dash in ((2.0, "2 3"), (4.0, ""), (12.0, "6 3")):
            stage = stage_of(response, ratio=ratio)
            curve.line(level, level + np.array([stage.curve_db(float(v)) for v in level]), VOICE, dash)
        dots = [-48.0, -36.0, -27.0, -18.0, -9.0, -1.0]
        for v in dots:
            out = v + float(gain_db(stage_of(response), tone((v, 1.0)))[-1])
            x, y = curve.at(v, out)
            curve.parts.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="2.6" fill="{INK}"/>')
        panels.append(
            curve.frame(
                f"{NAMES[response]}: 2:1, 4:1, 12:1; dots measured", [-60, -40, -20, 0], [-60, -40, -20, 0], "dBFS"
            )
        )
        step = Panel(row, 1, (-50, 550), (-24, 1))
        got = gain_db(stage_of(response), tone((-50, 0.3), (-6, 0.2), (-50, 0.6)))
        t = (np.arange(len(got)) / RATE - 0.3) * 1000
        keep = (t >= -50) & (t <= 550) & (np.arange(len(t)) % 96 == 0)
        step.line(t[keep], got[keep], TAKEN)
        panels.append(step.frame("gain, 44 dB up for 200 ms", [0, 200, 400], [-24, -12, 0], "ms; dB"))
        held = Panel(row, 2, (0, 4), (-24, 1))
        for seconds, dash in ((0.1, "2 3"), (1.0, "6 3"), (4.0, "")):
            for adjusting, colour in ((False, TAKEN), (True, PENCIL)):
                stage = stage_of(response, self_adjusting=adjusting)
                got = gain_db(stage, tone((-50, 0.2), (-6, seconds), (-50, 4.0)))[round((0.2 + seconds) * RATE) :]
                held.line(np.arange(len(got))[::960] / RATE, got[::960], colour, dash, 1.5 if adjusting is False else 1)
        panels.append(held.frame("release after 0.1, 1, 4 s; thin: adjusting", [0, 1, 2, 3, 4], [-24, -12, 0], "s; dB"))
    wide, tall = LEFT + 3 * WIDE + 2 * GAP + 20, TOP + 4 * (TALL + GAP)
    style = "text{font-family:sans-serif}.n{font-family:monospace;font-size:10.5px;fill:#5f636a}"
    head = f'<text x="{LEFT}" y="24" font-size="14" font-weight="600" fill="{INK}">Responses of the compressor</text>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {tall}" width="{wide}"><style>{style}</style>'
        f'<rect width="100%" height="100%" fill="#f3efe6"/>{head}{"".join(panels)}</svg>\n'
    )


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(draw())
