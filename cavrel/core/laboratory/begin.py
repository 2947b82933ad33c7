"""The laboratory that a new course begins with: house rules by a preset, and the usual instruments that it owns."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

from cavrel.core.definition.rules import Site
from cavrel.core.laboratory.document import Laboratory, load


@dataclass(frozen=True, slots=True, kw_only=True)
class Preset:
    """House rules that go together. ``title``: as it is chosen; ``say``: for whom; ``rules``: over the default ones."""

    title: str
    say: str
    rules: Mapping[str, Any]


PRESETS: Mapping[str, Preset] = MappingProxyType(
    {
        "first": Preset(
            title="First course",
            say="Students can check every ± by hand: half the range of the trials, half a scale step, one significant figure, unweighted fits.",
            rules={
                "repeats": "half_range",
                "pool": "never",
                "student": False,
                "resolution": "half_standard",
                "stated": "limit",
                "weights": "equal",
                "fit_uncertainty": "extreme_lines",
                "abscissae": "ignore",
                "rounding": "one",
                "acceptable": 10.0,
            },
        ),
        "careful": Preset(
            title="Careful course",
            say="Standard uncertainties combined by Cavrel: standard errors of means, weighted lines, 95 % intervals where they matter.",
            rules={},
        ),
        "university": Preset(
            title="University",
            say="As in a research paper: the GUM throughout, Particle Data Group rounding, signed deviations, up to 5 % acceptable.",
            rules={"rounding": "pdg", "percent_error": "signed", "acceptable": 5.0},
        ),
    }
)
USUAL = (
    "metre rule",
    "tape",
    "protractor",
    "stopwatch",
    "vernier caliper",
    "micrometer",
    "digital balance",
    "thermometer",
    "digital multimeter",
)
"""Kinds that most laboratories own, ticked where a course begins."""


def key_of(kind: str) -> str:
    """The name that an instrument of a kind has in a laboratory: ``vernier_caliper``."""
    plain = re.sub(r"[^A-Za-z0-9]+", "_", kind).strip("_")
    return (plain if plain[:1].isalpha() else f"i_{plain}")[:24].rstrip("_")


def begun(preset: str, instruments: Iterable[tuple[str, int]], g: Site | float) -> Laboratory:
    """The first version of a course's laboratory.

    ``preset``: a name in `PRESETS`.
    ``instruments``: kinds of the shared list, and how many there are of each.
    ``g``: free-fall acceleration in m/s², or the place that gives it.
    Raises LaboratoryError, KeyError.
    """
    own = {
        key_of(kind): {"label": kind, "kind": kind, "count": count, "usual": True}
        for kind, count in instruments
        if count
    }
    by = g if isinstance(g, float) else {"latitude": g.latitude, "height": g.height}
    return load({"format": "cavrel-laboratory/1", "rules": {**PRESETS[preset].rules, "g": by}, "instruments": own})
