"""A run as a notebook (nbformat 4.5): every result computed again from tables of readings and components, by NumPy, SciPy and `uncertainties`.

The notebook shares no code with Cavrel but for published formulas: it fits the points anew and propagates by derivatives of its own.
"""

import csv
import inspect
import io
import json
import math
from typing import Any

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition.steps import Derived, FitStep, ResultStep
from cavrel.core.document import recipe
from cavrel.core.errors import CavrelError
from cavrel.core.fit.models import Line, Model, Proportional, Tangent
from cavrel.core.formula import published
from cavrel.core.formula.nodes import Node
from cavrel.core.formula.parse import parse
from cavrel.core.formula.python import NotPython, python


def notebook(analysis: Analysis, title: str = "") -> dict[str, Any]:
    """The notebook as a document for JSON; it runs from top to bottom and ends by holding its results against Cavrel's."""
    return _Notebook(analysis).document(title or analysis.program.definition.title)


class _Notebook:
    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        self.program = analysis.program
        self.definition = analysis.program.definition
        self.cells: list[tuple[str, str]] = []

    def source(self) -> str:
        """Where the readings come from, where that is no apparatus."""
        return "**The readings are simulated.** " if self.analysis.run.on_screen else ""

    def document(self, title: str) -> dict[str, Any]:
        law = f"\n\nLaw: `{self.definition.law}`" if self.definition.law else ""
        self.say(
            f"# {title}\n\n{self.definition.aim}{law}\n\n{self.source()}Everything here is computed again from the two tables "
            "below. It needs NumPy, SciPy and `uncertainties`. The last cell compares with what Cavrel found."
        )
        self.do(recipe.IMPORTS)
        self.say(
            "## What was read\n\nValues in SI, the mean of the trials of each row; zero readings are subtracted already."
        )
        self.do(f'READINGS = """{self.readings()}"""')
        self.say(
            "## Where its uncertainty comes from\n\nOne line for what each component moves, by one standard uncertainty, in SI."
        )
        self.do(f'COMPONENTS = """{self.components()}"""')
        self.do(recipe.READ)
        self.do(self.accepted())
        self.say("## How curves are fitted, and how their parameters follow what was read")
        fits = [*self.analysis.fits.values(), *self.analysis.means.values()]
        self.do(recipe.fit_cell(dict(known for fit in fits if (known := _curve(fit)) is not None)))
        if any(f"{name}(" in self.formulas() for name in ("water_density", "sound_speed", "nagaoka")):
            self.do(self.published())
        self.say("## From the readings to the results")
        for step in self.program.steps:
            if isinstance(step, Derived):
                self.derived(step)
            elif isinstance(step, FitStep):
                self.fitted(step)
            elif isinstance(step, ResultStep):
                self.result(step)
        self.say("## The comparison")
        self.do(self.comparison())
        return {
            "nbformat": 4,
            "nbformat_minor": 5,
            "metadata": {
                "kernelspec": {"display_name": "Python 3", "language": "python", "name": "python3"},
                "language_info": {"name": "python"},
                "title": title,
            },
            "cells": [self.cell(i, kind, text) for i, (kind, text) in enumerate(self.cells)],
        }

    def cell(self, index: int, kind: str, text: str) -> dict[str, Any]:
        made: dict[str, Any] = {
            "cell_type": kind,
            "id": f"cell-{index}",
            "metadata": {},
            "source": text.splitlines(keepends=True),
        }
        return made | ({"execution_count": None, "outputs": []} if kind == "code" else {})

    def say(self, text: str) -> None:
        self.cells.append(("markdown", text))

    def do(self, text: str) -> None:
        self.cells.append(("code", text.strip("\n")))

    # --- tables ------------------------------------------------------------------------------------------------

    def readings(self) -> str:
        rows = [["key", "row", "value", "counts"]]
        for entry in self.program.inputs:
            key = entry.key
            keep = self.analysis.sheet.keep.get(entry.series or "")
            for row, value in enumerate(self.analysis.values[key].value):
                kept = keep is None or bool(keep[row])
                rows.append([key, str(row), repr(float(value)), "1" if kept else "0"])
        return _table(rows)

    def components(self) -> str:
        rows = [["component", "source", "key", "row", "u", "own"]]
        perturbations = self.analysis.perturbations
        for index, block in enumerate(perturbations.groups):
            span = perturbations.span(index)
            for target in block.targets:
                if target not in self.analysis.values:
                    continue  # an accepted value, which stands in a table of its own
                values = self.analysis.values[target]
                zero = values.unit.offset if block.relative else 0.0
                for i, component in enumerate(range(span.start, span.stop)):
                    at = range(len(values.value)) if block.rows is None else [int(block.rows[i])]
                    for row in at:
                        size = float(block.moved(target, values.value[row], zero, float(block.u[i])))
                        size *= float(block.weights[target][row]) if target in block.weights else 1.0
                        if math.isfinite(size) and size != 0:
                            own = "1" if bool(perturbations.layout.independent[component]) else "0"
                            own = "count" if block.counts is not None else own
                            rows.append([str(component), block.source, target, str(row), repr(size), own])
        return _table(rows)

    def accepted(self) -> str:
        lines = ["accepted = {}"]
        for name in self.program.used_accepted:
            value = self.analysis.accepted[name]
            made = f"ufloat({value.value!r}, {value.u!r})" if value.u > 0 else repr(value.value)
            lines.append(f"accepted[{name!r}] = {made}  # {_comment(value.label)}")
        return "\n".join(lines)

    def published(self) -> str:
        sources = [inspect.getsource(f) for f in (published.water_density, published.sound_speed, published.nagaoka)]
        wraps = [
            f"{f} = uncertainties.wrap(lambda v, f={f}: float(f(np.asarray(v))))"
            for f in ("water_density", "sound_speed", "nagaoka")
        ]
        return "\n\n".join([recipe.PUBLISHED, *sources, "\n".join(wraps)])

    def formulas(self) -> str:
        return json.dumps(self.definition.document())

    # --- steps -------------------------------------------------------------------------------------------------

    def names(self, series: str | None) -> dict[str, str]:
        """What stands for each name in a formula of ``series``, as Python."""
        found = {name: f"accepted[{name!r}]" for name in self.program.used_accepted}
        found |= {"pi": "np.pi"}
        found |= {name: f"results[{name!r}]" for name in self.definition.results}
        found |= {name: f"values[{name!r}][0]" for name in self.definition.quantities}
        found |= {key: repr(value) for key, value in self.program.constants.items()}
        for fit, analysis in self.analysis.fits.items():
            found |= {f"{fit}.{name}": f"fits[{fit!r}][{name!r}]" for name in analysis.parameters}
        for name in self.analysis.means:
            found[name] = f"fits[{name!r}]['mean']"
        for own, body in self.definition.series.items():
            found |= {f"{own}.{column}": f"values['{own}.{column}'][i]" for column in body.columns}
        if series is not None:
            found |= {c: f"values['{series}.{c}'][i]" for c in self.definition.series[series].columns}
        return found

    def python(self, node: Node, series: str | None) -> str:
        return python(node, self.names(series), series, set(self.definition.series))

    def formula_of(self, key: str, series: str | None) -> str | None:
        if series is None:
            return self.definition.quantities[key].formula
        return self.definition.series[series].columns[key.partition(".")[2]].formula

    def derived(self, step: Derived) -> None:
        text = self.formula_of(step.key, step.series)
        assert text is not None
        code = self.python(parse(text), step.series)
        if step.series is None:
            self.do(f"values[{step.key!r}] = [tried(lambda: {code})]  # {_comment(text)}")
        else:
            count = self.analysis.sheet.rows[step.series]
            self.do(f"# {_comment(text)}\nvalues[{step.key!r}] = [tried(lambda i=i: {code}) for i in range({count})]")

    def fitted(self, step: FitStep) -> None:
        fit = self.analysis.fits.get(step.name) or self.analysis.means.get(step.name)
        if fit is None or not fit.made:
            return
        model = _curve(fit)
        if model is None or fit.source == "extreme lines" or not fit.parameter_sensitivity.size:
            self.taken_over(step, fit)
            return
        try:
            x = self.python(step.x, step.series) if step.x is not None else "0.0"
            y = self.python(step.y, step.series)
        except NotPython:
            self.taken_over(step, fit)
            return
        rows = [int(i) for i in fit.rows]
        shape = fit.shape
        origin = float(shape.x0 if isinstance(shape, Tangent) else shape.origin) if shape is not None else 0.0
        count = fit.parameter_sensitivity.shape[0]
        given = {
            "model": model[0],
            "names": list(fit.parameters),
            "origin": origin,
            "start": [float(v) for v in fit.theta[:count]],
            "source": fit.source,
            "counted": fit.counted,
        }
        lines = [f"# {_comment(step.label or step.name)}"]
        lines.append(f"rows = {rows}")
        lines.append(f"x = [tried(lambda i=i: {x}) for i in rows]")
        lines.append(f"y = [tried(lambda i=i: {y}) for i in rows]")
        lines.append(f"weights = np.array({[float(w) for w in fit.weights]})")
        errors = "None"
        if fit.errors is not None:
            e = fit.errors
            columns = [[float(v) for v in one] for one in (e.x, e.y, e.xy)]
            lines.append(f"both = np.array({columns})  # variances along x and y, and their covariance")
            errors = "both"
        lines.append(f"fits[{step.name!r}] = tried(lambda: fit(x, y, weights, both={errors}, **{given!r}))")
        self.do("\n".join(lines))

    def taken_over(self, step: FitStep, fit: FitAnalysis) -> None:
        """A curve that the notebook has no model for: its parameters, with their covariance, as Cavrel found them."""
        names = list(fit.parameters)
        found = [float(fit.parameters[n].value) for n in names]
        covariance = np.nan_to_num(np.asarray(fit.covariance, float)).tolist()
        self.say(f"The fit “{step.label or step.name}” is taken over with its covariance; its curve has no model here.")
        self.do(
            f"fits[{step.name!r}] = dict(zip({names!r}, uncertainties.correlated_values({found!r}, np.array({covariance!r}))))"
        )

    def result(self, step: ResultStep) -> None:
        result = self.analysis.results[step.key]
        if result.reason:
            self.say(f"`{step.key}` has no value yet: {result.reason}.")
            return
        if step.combine:
            weights = {name: float(w) for name, w in result.weights.items()}
            self.do(
                f"results[{step.key!r}] = combined({weights!r}, {max(1.0, result.birge) if math.isfinite(result.birge) else 1.0!r})"
            )
            return
        text = self.definition.results[step.key].formula
        assert text is not None
        try:
            self.do(f"results[{step.key!r}] = tried(lambda: {self.python(parse(text), None)})  # {_comment(text)}")
        except (NotPython, CavrelError):
            self.say(f"`{step.key}` = `{text}` has no words in Python here, and is left to Cavrel.")

    def comparison(self) -> str:
        found = {
            name: (r.value, r.u if math.isfinite(r.u) else None, r.unit.text, r.unit.factor, r.unit.offset)
            for name, r in self.analysis.results.items()
            if not r.reason and math.isfinite(r.value)
        }
        return f"cavrel = {found!r}\n\n{recipe.COMPARE}"


def _curve(fit: FitAnalysis) -> tuple[str, tuple[str, str]] | None:
    """What the notebook calls a fit's curve, and its recipe; None where its parameters are taken over as they were found."""
    shape: Model | None = fit.shape
    if shape is None or (fit.unbounded and shape.key in ("damped", "drifting")):
        return None  # nothing fades within its uncertainty: the time it takes has a lower end only
    if isinstance(shape, Line) and fit.parameter_sensitivity.shape[0] == 1:
        shape = Proportional()
    if shape.recipe is None:
        return None
    return f"{shape.key}({', '.join(shape.names)})", shape.recipe


def _comment(text: str) -> str:
    return " ".join(text.split())[:110]


def _table(rows: list[list[str]]) -> str:
    sink = io.StringIO()
    csv.writer(sink, lineterminator="\n").writerows(rows)
    return sink.getvalue().replace("\\", "\\\\").replace('"""', '""')
