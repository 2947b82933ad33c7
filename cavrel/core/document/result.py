"""The result document, ``cavrel-result/1``: an analysis as plain JSON. Values stand in the unit named next to them."""

import math
from collections.abc import Mapping, Sequence
from typing import Any

from cavrel.core.analysis import Analysis, PredictionAnalysis, ResultAnalysis, Values
from cavrel.core.analysis.distribution import MonteCarlo
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.uncertainty import budget
from cavrel.core.findings.axes import candidates
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.findings.verdict import checked_verdict
from cavrel.core.formula.text import unparse
from cavrel.core.quantity.units import Unit
from cavrel.core.slips import Suspect

FORMAT = "cavrel-result/1"


def result_document(
    analysis: Analysis,
    findings: Sequence[Finding],
    slips: Sequence[Suspect],
    meanings: Mapping[str, LineMeaning] | None = None,
    drawn: Mapping[str, MonteCarlo] | None = None,
) -> dict[str, Any]:
    """The whole analysis; NaN becomes null."""
    definition = analysis.program.definition
    quantities = {name: _single(analysis.values[name]) for name in definition.quantities}
    series = {
        name: {column: _column(analysis.values[f"{name}.{column}"]) for column in body.columns}
        for name, body in definition.series.items()
    }
    return {
        "format": FORMAT,
        "experiment": definition.id,
        "rules": analysis.rules.model_dump(mode="json"),
        "simulated": analysis.run.on_screen,
        "quantities": quantities,
        "series": series,
        "fits": {name: _fit(fit, analysis, (meanings or {}).get(name)) for name, fit in analysis.fits.items()},
        "axes": [
            {
                "fit": name,
                "x": c.x,
                "y": c.y,
                "straight": c.pair.straight,
                "words": c.pair.words,
                "law": c.law,
                "chi2": _number(c.pair.squares) if c.pair.chi2_p is not None else None,
                "dof": c.pair.dof,
                "p": _maybe(c.pair.chi2_p),
                "curvature_p": _maybe(c.pair.curved_p),
            }
            for name, fit in analysis.fits.items()
            for c in candidates(analysis, fit)
        ],
        "results": {
            name: _result(analysis, result, (drawn or {}).get(name), findings)
            for name, result in analysis.results.items()
        },
        "predictions": {name: _prediction(found) for name, found in analysis.predictions.items()},
        "correlation": _correlation(analysis),
        "flags": [{"code": f.code, "level": f.level, "at": f.at, "title": f.title, "say": f.say} for f in findings],
        "slips": [
            {
                "say": s.say,
                "family": s.family,
                "at": s.at,
                "fix": s.fix,
                "before": s.before,
                "after": s.after,
                "score": _number(s.score),
                "probability": s.probability,
                "causes": [{"say": say, "share": share} for say, share in s.causes],
                "changes": [{"result": c.name, "before": c.before, "after": c.after} for c in s.changes],
            }
            for s in slips
        ],
    }


def _number(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _maybe(value: float | None) -> float | None:
    return None if value is None else _number(value)


def _single(values: Values) -> dict[str, Any]:
    unit = values.unit
    return {
        "unit": unit.text,
        "value": _number(unit.from_si(float(values.value[0]))),
        "u": _number(float(values.u[0]) / unit.factor),
    }


def _column(values: Values) -> dict[str, Any]:
    unit = values.unit
    return {
        "unit": unit.text,
        "values": [_number(unit.from_si(v)) for v in values.value.tolist()],
        "u": [_number(u / unit.factor) for u in values.u.tolist()],
    }


def _fit(fit: FitAnalysis, analysis: Analysis, meaning: LineMeaning | None) -> dict[str, Any]:
    found = fit.diagnostics
    law = None
    if meaning is not None:
        constants = {name: unparse(node) for name, node in meaning.constants}
        law = {"slope": unparse(meaning.slope), "intercept": unparse(meaning.intercept), "constants": constants}
    body: dict[str, Any] = {
        "model": analysis.program.definition.fits[fit.name].model,
        "reason": fit.reason or None,
        "rows": [int(row) + 1 for row in fit.rows],
        "parameters": {
            name: {"value": _number(p.value), "u": _number(p.u), "unit": p.unit.text}
            for name, p in fit.parameters.items()
        },
        "covariance": [[_number(v) for v in row] for row in fit.covariance.tolist()],
        "uncertainty": fit.source or None,
        "weights": _weights(fit),
        "unbounded": list(fit.unbounded),
        "law": law,
    }
    if found is not None:
        body |= {
            "chi2": _maybe(found.chi2),
            "dof": found.dof,
            "p": _maybe(found.p),
            "r2": _number(found.r2),
            "s": _number(found.s),
            "residuals": [_number(v) for v in found.residuals.tolist()],
            "standardised": [_number(v) for v in found.standardised.tolist()],
            "leverage": [_number(v) for v in found.leverage.tolist()],
            "curvature_p": _maybe(found.curvature_p),
            "runs_p": _maybe(found.runs_p),
        }
    return body


def _weights(fit: FitAnalysis) -> str | None:
    """How the rows were weighted, in a word."""
    if not fit.made:
        return None
    return "counts" if fit.counted else "known" if fit.known else "equal"


def _result(
    analysis: Analysis, result: ResultAnalysis, drawn: MonteCarlo | None, findings: Sequence[Finding]
) -> dict[str, Any]:
    unit = result.unit
    verdict = checked_verdict(analysis, result, findings)
    accepted = result.accepted
    return {
        "value": _number(unit.from_si(result.value)),
        "u": _number(result.u / unit.factor),
        "unit": unit.text,
        "dof": _number(result.dof),
        "k95": _number(result.coverage_factor),
        "U95": _number(result.expanded_uncertainty / unit.factor),
        "text": result_text(analysis, result),
        "reason": result.reason or None,
        "accepted": None
        if accepted is None
        else {
            "value": _number(unit.from_si(accepted.value)),
            "u": _number(accepted.u / unit.factor),
            "label": accepted.label,
            "source": accepted.source,
        },
        "percent_error": None if verdict.measured else _number(verdict.percent),
        "percent_difference": _number(verdict.percent) if verdict.measured else None,
        "linear": result.linear,
        "interval95": [_number(unit.from_si(end)) for end in result.interval],
        "plausible": result.plausible,
        "combined": {name: _number(weight) for name, weight in result.weights.items()} or None,
        "z": _number(verdict.z),
        "verdict": {
            "kind": verdict.kind,
            "text": f"{verdict.head} {verdict.text}",
            "probability": verdict.side[1] if verdict.side else None,
        },
        "budget": [
            {
                "source": s.source,
                "contribution": _number(s.contribution / unit.factor),
                "share": _number(s.share),
                "u_if_halved": _number(s.u_if_halved / unit.factor),
            }
            for s in result.budget
        ],
        "budget_by": {
            by: [
                {
                    "source": s.source,
                    "contribution": _number(s.contribution / unit.factor),
                    "share": _number(s.share),
                    "u_if_halved": _number(s.u_if_halved / unit.factor),
                }
                for s in budget(result.parts, analysis.perturbations, by)
            ]
            for by in ("instrument", "quantity")
        },
        "birge": _number(result.birge),
        "monte_carlo": None if drawn is None else _drawn(drawn, unit),
    }


def _drawn(drawn: MonteCarlo, unit: Unit) -> dict[str, Any]:
    return {
        "draws": drawn.draws,
        "mean": _number(unit.from_si(drawn.mean)),
        "u": _number(drawn.u / unit.factor),
        "low95": _number(unit.from_si(drawn.low95)),
        "high95": _number(unit.from_si(drawn.high95)),
        "tolerance": _number(drawn.tolerance / unit.factor),
        "stable": drawn.stable,
        "agrees": drawn.agrees,
        "lost": drawn.lost,
    }


def _prediction(found: PredictionAnalysis) -> dict[str, Any]:
    unit = found.unit
    return {
        "value": _number(unit.from_si(found.value)),
        "u": _number(found.u / unit.factor),
        "low95": _number(unit.from_si(found.low)),
        "high95": _number(unit.from_si(found.high)),
        "unit": unit.text,
        "x": _number(found.x),
        "outside": found.outside,
        "reason": found.reason or None,
    }


def _correlation(analysis: Analysis) -> dict[str, Any]:
    """Correlation of the results with one another, through everything that acts on several of them."""
    made = [result for result in analysis.results.values() if not result.reason and result.u > 0]
    matrix = [[_number(float((a.parts / a.u) @ (b.parts / b.u))) for b in made] for a in made]
    return {"results": [result.name for result in made], "matrix": matrix}


def result_text(analysis: Analysis, result: ResultAnalysis) -> str:
    """A result as every text shows it, by the rules of its analysis."""
    return result.text(analysis.rules.rounding)
