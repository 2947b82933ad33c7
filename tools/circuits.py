"""Draw the circuit diagrams of the electrical experiments into ``cavrel/catalogue/circuits``: ``./run circuits``.

The drawing library lays out standard symbols; line weight, colours and letters are then those of the apparatus drawings.
"""

import re
import sys
from collections.abc import Callable
from pathlib import Path

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
    d += parts.MeterV().at(top.center).down().toy(foot.end).label("U", loc="top", ofst=0.15)


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
        "Galvanometer with its shunt beside it, in one ring with the standard ammeter",
        _shunted,
    ),
    "galvanometer-conversion": ("Galvanometer with its series resistance, beside it the standard meter", _converted),
    "current-balance": ("Supply, current limit and ammeter in a ring with the wire between the poles", _wire),
    "coil-inductance": ("Coil and inductance meter in one ring", _coil),
    "led-threshold": ("Diode with its resistor, the voltmeter across the diode alone", _diode),
}


def circuit(name: str) -> str:
    """The SVG of one circuit, in the classes of the apparatus drawings."""
    label, draw = CIRCUITS[name]
    schemdraw.use("svg")
    schemdraw.svgconfig.text = "text"  # letters, not their outlines, whatever else is installed
    drawing = schemdraw.Drawing(show=False)
    drawing.config(color="currentcolor", lw=1.6, fontsize=17, unit=3)
    draw(drawing)
    return _ours(drawing.get_imagedata("svg").decode(), label)


def _ours(svg: str, label: str) -> str:
    box = re.search(r'viewBox="([^"]+)"', svg)
    assert box is not None
    left, top, width, height = (float(n) for n in box[1].split())
    view = f"{left - _MARGIN:.0f} {top - _MARGIN:.0f} {width + 2 * _MARGIN:.0f} {height + 2 * _MARGIN:.0f}"
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
