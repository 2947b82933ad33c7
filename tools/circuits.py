"""Draw the circuit diagrams of the electrical experiments into ``cavrel/catalogue/circuits``: ``./run circuits``.

The drawing library lays out standard symbols; line weight, colours and letters are then those of the apparatus drawings.
"""

import re
import sys
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import schemdraw
import schemdraw.elements as parts

from cavrel.catalogue import HERE

FOLDER = HERE / "circuits"
_MARGIN = 8.0


def _bridge(d: schemdraw.Drawing, left: str = "K", right: str = "X") -> None:
    d += (known := parts.ResistorIEC().right().length(4).label(left))
    d += (middle := parts.Dot())
    d += (unknown := parts.ResistorIEC().right().length(4).label(right))
    d += parts.Line().at(known.start).down().length(3)
    d += (wire := parts.Line().right().length(8))
    d += parts.Line().up().to(unknown.end)
    d += parts.MeterArrow().at(middle.center).down().length(2.2)
    d += parts.Line(arrow="->").down().toy(wire.start)
    d += parts.Line().at(known.start).up().length(1.7)
    d += parts.BatteryCell().right().length(5)
    d += parts.Switch().right().tox(unknown.end)
    d += parts.Line().down().to(unknown.end)
    d += parts.Label().at((2.0, -3.45)).label("l")


def _converted(d: schemdraw.Drawing) -> None:
    d += (supply := parts.BatteryCell().right().length(2.5))
    d += parts.Switch().right().length(2.5)
    d += (right := parts.PotentiometerIEC().right().length(3))
    d += parts.Line().at(supply.start).down().length(2.2)
    d += (left := parts.Dot())
    d += parts.MeterArrow().right().length(3).label("G", loc="bottom")
    d += parts.ResistorIEC().right().length(3).label("R", loc="bottom")
    d += (end := parts.Line().right().tox(right.end))
    d += parts.Dot()
    d += parts.Line().up().to(right.end)
    d += parts.Line().at(left.center).down().length(2.2)
    d += parts.MeterV().right().tox(end.end)
    d += parts.Line().up().to(end.end)


def _shunted(d: schemdraw.Drawing) -> None:
    d += (supply := parts.BatteryCell().right().length(2.5))
    d += parts.Switch().right().length(2.5)
    d += (right := parts.PotentiometerIEC().right().length(3))
    d += parts.Line().at(supply.start).down().length(2.2)
    d += (left := parts.Dot())
    d += parts.MeterArrow().right().length(4).label("G", loc="top", ofst=0.1)
    d += (middle := parts.Dot())
    d += parts.MeterA().right().tox(right.end)
    d += parts.Line().up().to(right.end)
    d += parts.Line().at(left.center).down().length(1.6)
    d += parts.ResistorIEC().right().tox(middle.center).label("R", loc="bottom")
    d += parts.Line().up().to(middle.center)


def _wire(d: schemdraw.Drawing) -> None:
    d += (supply := parts.PotBox().right().length(3))
    d += parts.MeterA().right().length(3).label("I", ofst=0.15)
    d += (end := parts.Line().right().length(1.5))
    d += parts.Line().at(supply.start).down().length(2.2)
    d += parts.BatteryCell().right().length(2.5)
    d += parts.Line().right().length(1.0)
    d += parts.RBox().right().tox(end.end).label("l", loc="bottom")
    d += parts.Line().up().to(end.end)


def _diode(d: schemdraw.Drawing) -> None:
    d += (supply := parts.ResistorIEC().right().length(3).label("R"))
    d += (top := parts.Dot())
    d += parts.Line().right().length(2.2)
    d += parts.LED().down().length(2.6).label("λ", loc="bottom", ofst=0.35)
    d += (foot := parts.Line().left().tox(top.center))
    d += parts.Dot()
    d += parts.Line().left().tox(supply.start)
    d += parts.SourceV().up().to(supply.start)
    d += parts.MeterV().at(top.center).down().toy(foot.end)


def _coil(d: schemdraw.Drawing) -> None:
    d += (coil := parts.Inductor2(loops=6).right().length(4).label("N"))
    d += parts.Line().down().length(2)
    d += parts.Source().left().tox(coil.start).label("L", loc="center", ofst=0)
    d += parts.Line().up().to(coil.start)


CIRCUITS: dict[str, tuple[str, Callable[[schemdraw.Drawing], None]]] = {
    "metre-bridge": (
        "Known and unknown resistance over the wire of the bridge, galvanometer and key to the slider",
        _bridge,
    ),
    "metre-bridge.gap-left": (
        "Unknown resistance in the left gap and known one in the right over the wire of the bridge, galvanometer and key to the slider",
        lambda d: _bridge(d, "X", "K"),
    ),
    "galvanometer-conversion.meter-ammeter": (
        "Galvanometer with its shunt next to it, in one ring with the standard ammeter",
        _shunted,
    ),
    "galvanometer-conversion": ("Galvanometer with its series resistance, next to it the standard meter", _converted),
    "current-balance": ("Supply, current limit and ammeter in a ring with the wire between the poles", _wire),
    "coil-inductance": ("Coil and inductance meter in one ring", _coil),
    "led-threshold": ("Diode with its resistor, the voltmeter across the diode alone", _diode),
}


ANSWERS: dict[str, dict[str, str]] = {
    "metre-bridge": {"K": "K", "X": "X", "l": "l"},
    "metre-bridge.gap-left": {"K": "K", "X": "X", "l": "l"},
    "galvanometer-conversion.meter-ammeter": {"G": "G", "R": "R_box"},
    "galvanometer-conversion": {"G": "G", "R": "R_box"},
    "current-balance": {"I": "I I_B", "l": "l l_A"},
    "coil-inductance": {"N": "N"},
    "led-threshold": {"λ": "lam"},
}
"""By circuit, what its letters stand for in the definition: `cavrel.graph.circuit` puts the numbers there."""
MORE: dict[str, tuple[tuple[float, float, str, str], ...]] = {
    "galvanometer-conversion.meter-ammeter": ((114, 70, "θ", "theta"), (216, 114, "", "V_2")),
    "galvanometer-conversion": ((98, 70, "θ", "theta"), (144, 194, "", "V_2")),
    "coil-inductance": ((72, 108, "", "L_m L_0"),),
    "led-threshold": ((108, 115, "U", "U"),),
}
"""Letters, and places for numbers alone, that the drawing library puts nowhere: x, y, letter, what it stands for."""
ROOM = {"galvanometer-conversion": (0, 12), "coil-inductance": (0, 10), "led-threshold": (50, 13)}
"""What the drawing needs more to the right and below for them."""
SLIDES = {
    '<path d="M 144.0,79.2 L 144,93.6 L 144,99" />': '<path d="M 144,79.2 V 99" data-slide="l 0 1 0 288" data-d="M 144,79.2 V 86 H {x} V 99" />',
    '<path d="M 144 106 L 141.3 99 L 146.7 99 Z" class="solid" />': '<path d="M 144 106 l -2.7 -7 h 5.4 Z" class="solid" '
    'data-slide="l 0 1 0 288" data-d="M {x} 106 l -2.7 -7 h 5.4 Z" />',
}
"""The slider of a bridge, which follows where the wire was touched."""


def circuit(name: str) -> str:
    """The SVG of one circuit, in the classes of the apparatus drawings."""
    label, draw = CIRCUITS[name]
    schemdraw.use("svg")
    # Prefixes of XML are a process's own: another library may have taken the empty one since this one was loaded.
    ElementTree.register_namespace("", "http://www.w3.org/2000/svg")
    schemdraw.svgconfig.text = "text"  # letters, not their outlines, whatever else is installed
    drawing = schemdraw.Drawing(show=False)
    drawing.config(color="currentcolor", lw=1.6, fontsize=17, unit=3)
    draw(drawing)
    return _answering(name, _ours(drawing.get_imagedata("svg").decode(), label, ROOM.get(name, (0, 0))))


def _answering(name: str, svg: str) -> str:
    """The drawing with what its letters stand for, and what slides."""
    for letter, names in ANSWERS[name].items():
        svg, found = re.subn(
            rf"<text ([^>]*)>(\s*<tspan [^>]*>{letter}</tspan>)", rf'<text \1 data-of="{names}">\2', svg
        )
        assert found == 1, (name, letter)
    for x, y, letter, names in MORE.get(name, ()):
        svg = svg.replace(
            "\n</svg>", f'\n  <text x="{x}" y="{y}" text-anchor="middle" data-of="{names}">{letter}</text>\n</svg>'
        )
    if name.startswith("metre-bridge"):
        for still, moving in SLIDES.items():
            assert svg.count(still) == 1, (name, still)
            svg = svg.replace(still, moving)
    return svg


def _ours(svg: str, label: str, room: tuple[float, float]) -> str:
    box = re.search(r'viewBox="([^"]+)"', svg)
    assert box is not None
    left, top, width, height = (float(n) for n in box[1].split())
    view = f"{left - _MARGIN:.0f} {top - _MARGIN:.0f} {width + 2 * _MARGIN + room[0]:.0f} {height + 2 * _MARGIN + room[1]:.0f}"
    body = svg[svg.index(">") + 1 : svg.rindex("</svg>")]
    body = re.sub(r'style="stroke:currentcolor;fill:currentcolor[^"]*"', 'class="solid"', body)
    body = re.sub(r' style="[^"]*"', "", body)
    body = re.sub(r' (?:fill|font-size|font-family)="[^"]*"', "", body)
    body = re.sub(r"-?\d+\.\d{2,}(?:e-?\d+)?", lambda m: f"{float(m[0]):.1f}", body)
    body = re.sub(r"(?<![\d.])-0(?:\.0)?(?![\d.])", "0", body).replace("><", ">\n  <")
    return f'<svg class="apparatus circuit" viewBox="{view}" role="img" aria-label="{label}">\n  {body}\n</svg>\n'


def main() -> int:
    FOLDER.mkdir(exist_ok=True)
    for name in CIRCUITS:
        Path(FOLDER / f"{name}.svg").write_text(circuit(name), encoding="utf-8")
        print(f"circuits: {name}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
