"""NIST StRD, nonlinear regression: certified parameters and standard deviations, through the whole engine.

The data files are NIST's own (public domain), from nist.gov/itl. Each set is fitted as a formula with free parameters from NIST's second
starting values and from its first, farther ones.
"""

import re
from pathlib import Path

import pytest

from cavrel.core import definition as definitions
from cavrel.core.analysis import analyse
from cavrel.core.analysis.fitting import FitAnalysis
from cavrel.core.definition.program import compile_program
from cavrel.core.logbook import run as runs

FOLDER = Path(__file__).parent / "nist"

# The curves as NIST prints them, in our notation.
CURVES = {
    "Bennett5": "b1*(b2+x)^(-1/b3)",
    "BoxBOD": "b1*(1-exp(-b2*x))",
    "Chwirut1": "exp(-b1*x)/(b2+b3*x)",
    "Chwirut2": "exp(-b1*x)/(b2+b3*x)",
    "DanWood": "b1*x^b2",
    "ENSO": "b1 + b2*cos(2*pi*x/12) + b3*sin(2*pi*x/12) + b5*cos(2*pi*x/b4) + b6*sin(2*pi*x/b4) + b8*cos(2*pi*x/b7) + b9*sin(2*pi*x/b7)",
    "Eckerle4": "(b1/b2)*exp(-0.5*((x-b3)/b2)^2)",
    "Gauss1": "b1*exp(-b2*x) + b3*exp(-(x-b4)^2/b5^2) + b6*exp(-(x-b7)^2/b8^2)",
    "Gauss3": "b1*exp(-b2*x) + b3*exp(-(x-b4)^2/b5^2) + b6*exp(-(x-b7)^2/b8^2)",
    "Hahn1": "(b1+b2*x+b3*x^2+b4*x^3)/(1+b5*x+b6*x^2+b7*x^3)",
    "Kirby2": "(b1+b2*x+b3*x^2)/(1+b4*x+b5*x^2)",
    "Lanczos3": "b1*exp(-b2*x) + b3*exp(-b4*x) + b5*exp(-b6*x)",
    "MGH09": "b1*(x^2+x*b2)/(x^2+x*b3+b4)",
    "MGH10": "b1*exp(b2/(x+b3))",
    "MGH17": "b1 + b2*exp(-x*b4) + b3*exp(-x*b5)",
    "Misra1a": "b1*(1-exp(-b2*x))",
    "Misra1b": "b1*(1-(1+b2*x/2)^(-2))",
    "Misra1c": "b1*(1-(1+2*b2*x)^(-0.5))",
    "Misra1d": "b1*b2*x*((1+b2*x)^(-1))",
    "Rat42": "b1/(1+exp(b2-b3*x))",
    "Rat43": "b1/((1+exp(b2-b3*x))^(1/b4))",
    "Roszman1": "b1 - b2*x - atan(b3/(x-b4))/pi",
    "Thurber": "(b1+b2*x+b3*x^2+b4*x^3)/(1+b5*x+b6*x^2+b7*x^3)",
}


def parse(name: str) -> tuple[list[list[float]], list[tuple[str, str]]]:
    """Per parameter [start 1, start 2, certified, deviation]; and the (y, x) readings as texts."""
    lines = (FOLDER / f"{name}.dat").read_text().splitlines()
    parameters = [[float(v) for v in m[1].split()] for line in lines if (m := re.match(r"\s*b\d+\s*=\s*(.+)", line))]
    begin = next(i for i, line in enumerate(lines) if i > 55 and line.startswith("Data:")) + 1
    return parameters, [(p[0], p[1]) for line in lines[begin:] if len(p := line.split()) == 2]


def fitted(name: str, start: int) -> tuple[FitAnalysis, list[list[float]]]:
    parameters, data = parse(name)
    definition = definitions.load(
        {
            "format": "cavrel-experiment/1",
            "id": "nist-set",
            "title": name,
            "field": "modern",
            "aim": "Certified values.",
            "series": {
                "s": {
                    "label": "Data",
                    "columns": {
                        "x": {"label": "x", "role": "set", "exact": True},
                        "y": {"label": "y", "role": "measured", "exact": True},
                    },
                }
            },
            "fits": {
                "curve": {
                    "series": "s",
                    "x": "x",
                    "y": "y",
                    "model": "formula",
                    "formula": CURVES[name],
                    "free": {f"b{i + 1}": repr(p[start]) for i, p in enumerate(parameters)},
                }
            },
        }
    )
    series = {"s": {"x": [d[1] for d in data], "y": [d[0] for d in data]}}
    run = runs.load({"format": "cavrel-run/1", "experiment": "nist-set", "series": series})
    return analyse(compile_program(definition, {}), run).fits["curve"], parameters


@pytest.mark.parametrize(("name", "start"), [(n, start) for n in CURVES for start in (0, 1)])
def test_certified_values(name: str, start: int) -> None:
    fit, parameters = fitted(name, start)
    assert fit.made, fit.reason
    for i, (_, _, certified, deviation) in enumerate(parameters):
        found = fit.parameters[f"b{i + 1}"]
        assert found.value == pytest.approx(certified, rel=1e-6), f"b{i + 1}"
        assert found.u == pytest.approx(deviation, rel=1e-4), f"u(b{i + 1})"
