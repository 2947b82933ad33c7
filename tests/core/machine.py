"""Small definitions for tests of the engine."""

from typing import Any

import numpy as np

from cavrel.core import definition as definitions
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.program import compile_program
from cavrel.core.definition.steps import Program
from cavrel.core.logbook import run as runs


def definition(**parts: Any) -> definitions.Definition:
    head = {
        "format": "cavrel-experiment/1",
        "id": "a-test",
        "title": "A test",
        "field": "mechanics",
        "aim": "Test the engine.",
    }
    return definitions.load({**head, **parts})


def program(**parts: Any) -> Program:
    return compile_program(definition(**parts), {})


def run(of: Program, **parts: Any) -> Analysis:
    return analyse(of, runs.load({"format": "cavrel-run/1", "experiment": "a-test", **parts}))


def columns(exact: bool = False, **units: str) -> dict[str, Any]:
    """A series of plain columns: name = unit; the first is set, the others measured."""
    body = {
        name: {"label": name, "unit": unit, "role": "set" if i == 0 else "measured", "exact": exact}
        for i, (name, unit) in enumerate(units.items())
    }
    return {"label": "Readings", "columns": body}


def curve(model: str, x: list[str], y: list[str], rules: dict[str, Any] | None = None, **fit: Any) -> Analysis:
    """One fit of plain numbers through the whole engine."""
    made = program(
        series={"s": columns(x="", y="")}, fits={"f": {"series": "s", "x": "x", "y": "y", "model": model, **fit}}
    )
    return run(made, series={"s": {"x": x, "y": y}}, rules=rules or {})


def texts(values: np.ndarray, u: float | None = None, decimals: int = 6) -> list[str]:
    """Numbers as typed, with ± ``u``."""
    return [f"{v:.{decimals}f}" + (f" ± {u}" if u else "") for v in values]
