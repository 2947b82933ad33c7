"""What notebooks and scripts call: `analyse` for a run document, `fit` for plain numbers. The engine of the pages; nothing is served or kept."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from cavrel import catalogue
from cavrel.core import analysis as engine
from cavrel.core import definition as definitions
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.definition import Definition
from cavrel.core.definition.program import compile_program
from cavrel.core.document import result_document
from cavrel.core.findings import findings_of, monte_carlo_findings
from cavrel.core.logbook import run as runs
from cavrel.core.slips import find

Array = NDArray[np.float64]


def analyse(
    document: Mapping[str, Any], definition: Definition | None = None, draws: int | None = None
) -> dict[str, Any]:
    """Result document (``cavrel-result/1``) of a run document (``cavrel-run/1``), as plain JSON data.

    ``definition``: of the experiment, where it is not the one that the run names.
    ``draws``: of Monte Carlo propagation, none by default.
    Raises CavrelError for a document that cannot be read, ValueError for a number of draws that cannot be used.
    """
    run = runs.load(document)
    chosen = definition or catalogue.resolve(run.experiment)
    meanings = catalogue.meanings_of(chosen, run.options)
    program = catalogue.program_of(chosen, run.instruments, run.options, run.accepted, run.headings, run.earlier())
    analysis = engine.analyse(program, run)
    drawn = {} if draws is None else monte_carlo(analysis, draws)
    findings = (*findings_of(analysis, meanings), *monte_carlo_findings(analysis, drawn))
    suspects = find(analysis, catalogue.alternatives(chosen, run)).suspects
    return result_document(analysis, findings, suspects, meanings, drawn)


@dataclass(frozen=True, slots=True)
class Estimate:
    """``value`` with its standard uncertainty ``u``."""

    value: float
    u: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """A curve through points.

    ``parameters``: by name, in the order of ``covariance``.
    ``covariance``: ``(p, p)`` of the parameters.
    ``residuals``: ``(n,)`` measured less fitted y.
    ``chi2``: of the residuals, None where no uncertainty of y is known.
    ``dof``: degrees of freedom.
    ``p``: chance of a chi-squared at least as large, None as ``chi2``.
    ``source``: of the uncertainties, ``propagated`` or ``scatter``.
    """

    parameters: Mapping[str, Estimate]
    covariance: Array
    residuals: Array
    chi2: float | None
    dof: int
    p: float | None
    source: str


def fit(
    x: ArrayLike, y: ArrayLike, *, u: ArrayLike | None = None, u_x: ArrayLike | None = None, model: str = "line"
) -> Fit:
    """Fit one of the models of the definition format to plain numbers, weighted by their uncertainties.

    ``x``, ``y``: ``(n,)``.
    ``u``, ``u_x``: standard uncertainties of y and x, ``(n,)`` or one for all; none by default.
    ``model``: such as ``line``, ``proportional``, ``power``, ``exponential``, ``rise``, ``damped``, ``drifting``, ``parabola``, ``mean``.
    Where both are given a straight line follows York. Scatter beyond the error bars widens the uncertainties, as the house rule "larger" has it.
    Raises ValueError for arrays that do not match or are not finite, and where no curve can be fitted; CavrelError for an unknown model.
    """
    xs, ys = (np.asarray(v, float).ravel() for v in (x, y))
    if len(xs) != len(ys):
        raise ValueError(f"x has {len(xs)} values and y has {len(ys)}")
    if not (np.isfinite(xs).all() and np.isfinite(ys).all()):
        raise ValueError("x and y must be finite numbers")
    body: dict[str, Any] = {"series": "s", "y": "y", "model": model} | ({} if model == "mean" else {"x": "x"})
    # A number without an uncertainty is no reading of a scale: its last digit says nothing.
    columns = {
        "x": {"label": "x", "unit": "", "role": "set", "exact": u_x is None},
        "y": {"label": "y", "unit": "", "role": "measured", "exact": u is None},
    }
    made = definitions.load(
        {
            "format": "cavrel-experiment/1",
            "id": "fit",
            "title": "A fit",
            "field": "mechanics",
            "aim": "Fit.",
            "series": {"s": {"label": "Points", "columns": columns}},
            "fits": {"f": body},
        }
    )
    table = {"x": _texts(xs, u_x, "u_x"), "y": _texts(ys, u, "u")}
    run = runs.load({"format": "cavrel-run/1", "experiment": "fit", "series": {"s": table}})
    found = engine.analyse(compile_program(made, {}), run).fits["f"]
    if not found.made or found.diagnostics is None:
        raise ValueError(found.reason)
    names = list(found.parameters)
    known = found.diagnostics
    return Fit(
        parameters={name: Estimate(float(one.value), float(one.u)) for name, one in found.parameters.items()},
        covariance=np.array(found.covariance)[: len(names), : len(names)],
        residuals=np.array(known.residuals),
        chi2=known.chi2,
        dof=known.dof,
        p=known.p,
        source=found.source,
    )


def _texts(values: Array, u: ArrayLike | None, name: str) -> Sequence[str]:
    """Numbers as a bench would type them, with their ± where there is one."""
    texts = [f"{value:.17g}".replace("e+", "e") for value in values.tolist()]
    if u is None:
        return texts
    sizes = np.asarray(u, float)
    if sizes.shape not in ((), (1,), (len(values),)) or not (np.isfinite(sizes).all() and (sizes > 0).all()):
        raise ValueError(f"{name} must be one positive number, or one for each of the {len(values)} points")
    wide = np.broadcast_to(sizes, (len(values),)).tolist()
    return [f"{text} ± {size:.17g}".replace("e+", "e") for text, size in zip(texts, wide, strict=True)]
