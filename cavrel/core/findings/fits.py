"""What is odd about a fit: bends, scatter, points off the line, an intercept that should not be."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.segments import straight_end
from cavrel.core.findings.drift import of_swing
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.findings.off_line import odd_points, two_sided
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.quantity.rounding import MINUS, significant
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import counted

Array = NDArray[np.float64]

_BENT = 0.001
_ALPHA_FIT = 0.001
_OFF_ORIGIN = 0.001
NARROW = 0.35
"""Abscissae that span less than this share of their value leave slope and intercept undivided."""
_WELL_KNOWN = 0.05
_PERHAPS, _FAR = 0.01, 4.0
"""An intercept this far off, in standard uncertainties, is spoken of as a maybe where few rows leave chance more room."""


def of_fit(analysis: Analysis, fit: FitAnalysis, meaning: LineMeaning | None) -> list[Finding]:
    at, model = f"fits.{fit.name}", analysis.program.fits[fit.name].model
    lost = [*_lost(analysis, fit), *_other_words(analysis, fit)]
    if not fit.made:
        waits = analysis.waits.get(fit.name, ())
        say = f"{fit.reason[0].upper()}{fit.reason[1:]}."
        if waits:
            say = f"It waits for {', '.join(f'“{label}”' for label in waits)}."
        curve = {"line": "line", "proportional": "line", "mean": "mean"}.get(model, "curve")
        return [*lost, Finding(code="no-fit", level="note", at=at, title=f"No {curve} yet", say=say)]
    if analysis.program.definition.fits[fit.name].sketch:
        return _prediction(analysis, fit, at)
    findings: list[Finding] = list(lost)
    found = fit.diagnostics
    assert found is not None
    series = analysis.program.fits[fit.name].series
    if found.dof < 2 and fit.theta.size > 1:
        findings.append(
            Finding(
                code="few-points",
                level="note",
                at=at,
                title=f"Only {len(fit.rows)} points",
                say="With so few points no wrong curve can be detected. Add a setting.",
            )
        )
    findings += odd_points(fit, series)
    odd = bool(findings) and findings[-1].code == "off-line"
    if found.curvature_p is not None and found.curvature_p < _BENT and not odd:
        way = "up" if found.curvature_sign > 0 else "down"
        findings.append(
            Finding(
                code="curved",
                level="caution",
                at=at,
                title=f"The points bend {way}",
                say="The residuals bend: a straight line is the wrong shape here. Try other axes, or look for what changed along the table.",
            )
        )
    if found.p is not None and found.p < _ALPHA_FIT and not odd:
        findings.append(
            Finding(
                code="scatter",
                level="caution",
                at=at,
                title="The values differ by more than they should"
                if model == "mean"
                else "More scatter than the error bars allow",
                say=f"χ² is {significant(found.chi2 or 0.0, 2)} for {counted(found.dof, 'degree')} of freedom. "
                "An uncertainty is stated too small; the scatter is used instead.",
            )
        )
    if found.p is not None and found.dof >= 3 and found.p > 1 - 1e-4:
        findings.append(
            Finding(
                code="too-good",
                level="note",
                at=at,
                title="Scatter smaller than chance allows",
                say=f"χ² is only {significant(found.chi2 or 0.0, 2)} for {counted(found.dof, 'degree')} of freedom. "
                "Are the uncertainties stated too large, or the readings smoothed?",
            )
        )
    findings += of_swing(fit, at)
    if found.runs_p is not None and found.runs_p < _BENT and not any(f.code in ("curved", "drift") for f in findings):
        findings.append(
            Finding(
                code="runs",
                level="note",
                at=at,
                title="Residuals come in runs",
                say="Neighbouring points deviate to the same side. Something drifted, or the curve has the wrong shape.",
            )
        )
    findings += _intercept(analysis, fit, meaning, at)
    findings += _undivided(analysis, fit, at)
    if any(f.code in ("curved", "scatter", "runs", "off-line") for f in findings) and "intercept" in fit.parameters:
        findings += _end(analysis, fit, at)
    if (
        analysis.rules.fit_uncertainty == "extreme_lines"
        and fit.source != "extreme lines"
        and "intercept" in fit.parameters
    ):
        say = "Steepest and shallowest lines cannot be drawn; the uncertainty of the slope comes from scatter or error bars, whichever is larger."
        findings.append(
            Finding(code="no-extremes", level="note", at=at, title="No line passes through all error boxes", say=say)
        )
    return findings + _prediction(analysis, fit, at)


MOST_LOST = 4
"""More rows than these that give no point are said in one remark: it is no slip of one row then."""


def _other_words(analysis: Analysis, fit: FitAnalysis) -> list[Finding]:
    """Rows that are whole and no part of a fit, for it runs over the rows of another word; said once for a table."""
    step = analysis.program.fits[fit.name]
    first = next(name for name, other in analysis.program.fits.items() if other.series == step.series)
    if not step.marked or fit.name != first:
        return []
    whole = analysis.sheet.keep[step.series] & np.isfinite(fit.x) & np.isfinite(fit.y) & ~fit.keep
    if not whole.any():
        return []
    words = analysis.marks(step.series)
    drawn = {word for one in analysis.program.fits.values() if one.series == step.series for word in one.marked}
    other = [word for word in dict.fromkeys(words[row] for row in np.flatnonzero(whole)) if word not in drawn]
    if not other:
        return []
    many = counted(sum(words[row] in other for row in np.flatnonzero(whole)), "row")
    named = " or ".join(f"“{word}”" for word in other)
    say = f"{step.label[0].upper()}{step.label[1:]} runs over the rows with “{'” or “'.join(step.marked)}”. Fit can draw a line for each word."
    return [
        Finding(
            code="other-words",
            level="note",
            at=f"fits.{fit.name}",
            title=f"{many} with {named} not in the line",
            say=say,
        )
    ]


def _lost(analysis: Analysis, fit: FitAnalysis) -> list[Finding]:
    """Rows of which everything was read, and which yet give no point: the root or the logarithm of something below zero."""
    step, body = analysis.program.fits[fit.name], analysis.program.definition.fits[fit.name]
    read = analysis.behind_read(fit.name, len(fit.x))
    rows = np.flatnonzero(read & fit.keep & ~(np.isfinite(fit.x) & np.isfinite(fit.y)))
    if not len(rows):
        return []
    axis = [
        typeset(parse(text))
        for text, v in ((body.y, fit.y), (body.x, fit.x))
        if text and not np.isfinite(v[rows]).all()
    ]
    what = " and ".join(axis)
    if len(rows) > MOST_LOST:
        say = f"Everything was read, but {what} has no value in {counted(len(rows), 'row')}. Check what enters all of them."
        return [
            Finding(
                code="no-value",
                level="caution",
                at=f"fits.{fit.name}",
                title=f"{counted(len(rows), 'row')} without a point",
                say=say,
            )
        ]
    return [
        Finding(
            code="no-value",
            level="caution",
            at=f"{step.series}.{row + 1}",
            title=f"Row {row + 1} gives no point",
            say=f"Everything in it was read, but {what} has no value there. Check its readings.",
            row_out=(step.series, row + 1),
        )
        for row in rows.tolist()
    ]


def _undivided(analysis: Analysis, fit: FitAnalysis, at: str) -> list[Finding]:
    """Settings so near each other that slope and intercept cannot be told apart: what the origin, and each row alone, would say instead."""
    step = analysis.program.fits[fit.name]
    if "intercept" not in fit.parameters or step.model != "line" or len(fit.rows) < 3:
        return []
    x, y, w = fit.x[fit.rows], fit.y[fit.rows], fit.weights
    middle = abs(float(w @ x / w.sum()))
    span = float(np.ptp(x))
    slope = fit.parameters["slope"]
    if not 0 < span < NARROW * middle or (x == 0).any() or not slope.u > 0:
        return []
    through = float((w * x) @ y / ((w * x) @ x))
    rows = y / x
    unit = slope.unit
    shown = [amount_text(v, unit, 4) for v in (through, float(rows.min()), float(rows.max()))]
    say = (
        f"x covers only {significant(100 * span / middle, 2)} % of its value, so a steeper line with a lower intercept fits nearly as "
        f"well. Through the origin the slope would be {shown[0]}; row by row y/x runs from {shown[1]} to {shown[2]}."
    )
    share = slope.u / abs(slope.value) if slope.value else math.inf
    if share > _WELL_KNOWN:
        wanted = span * share / _WELL_KNOWN
        largest = float(x.max())
        lowest = largest - wanted
        if lowest > 0:
            say += f" Settings from {amount_text(lowest, step.x_unit, 2)} to {amount_text(largest, step.x_unit, 2)} would separate them."
        else:
            say += " No range within these limits separates them to 5 %; go much higher, or use the line through the origin."
    return [
        Finding(code="undivided", level="note", at=at, title="Slope and intercept are strongly correlated", say=say)
    ]


def _end(analysis: Analysis, fit: FitAnalysis, at: str) -> list[Finding]:
    """Where the straight part ends, if two lines that meet do where one does not."""
    step = analysis.program.fits[fit.name]
    end = straight_end(fit.x[fit.rows], fit.y[fit.rows], fit.weights)
    if end is None or len(end.outside) < 2:  # one point off the line is a point off the line
        return []
    outside = tuple((step.series, int(fit.rows[i]) + 1) for i in sorted(end.outside.tolist()))
    where = analysis.measured(end.knot, end.u, step.x_unit).text()
    slopes = [amount_text(value, step.parameters["slope"], 3) for value in (end.slope, end.beyond)]
    side, other = ("up to", "beyond") if end.below else ("from", "below")
    say = (
        f"{side[0].upper()}{side[1:]} {where} the slope is {slopes[0]}, {other} it {slopes[1]}. If another law holds there, "
        f"leave out the {counted(len(outside), 'point')} {other} it and say why."
    )
    title = f"Straight {side} {amount_text(end.knot, step.x_unit, 2)}"
    return [Finding(code="straight-end", level="note", at=at, title=title, say=say, rows_out=outside)]


def _prediction(analysis: Analysis, fit: FitAnalysis, at: str) -> list[Finding]:
    """What the bench predicted of the graph, against what the definition expects."""
    said = analysis.run.expected.get(fit.name)
    right = analysis.program.definition.fits[fit.name].expect
    if said is None or right is None:
        return []
    if said == right:
        return [Finding(code="predicted", level="note", at=at, title=f"You predicted: {said}", say="As predicted.")]
    return [
        Finding(
            code="not-predicted",
            level="note",
            at=at,
            title=f"You predicted: {said}",
            say=f"The law says {right}. What caused the difference?",
        )
    ]


def _intercept(analysis: Analysis, fit: FitAnalysis, meaning: LineMeaning | None, at: str) -> list[Finding]:
    """The law sends the line through the origin, but the readings do not."""
    if meaning is None or not meaning.through_origin or "intercept" not in fit.parameters:
        return []
    intercept, found = fit.parameters["intercept"], fit.diagnostics
    assert found is not None
    if not intercept.u > 0 or found.dof < 1:
        return []
    z = intercept.value / intercept.u
    p = (
        float(2 * special.stdtr(found.dof, -abs(z)))
        if fit.source == "scatter"
        else float(two_sided(abs(z), found.variance_dof))
    )
    if p > _OFF_ORIGIN and (p > _PERHAPS or abs(z) < _FAR):
        return []
    sign = MINUS if intercept.value < 0 else "+"
    crossing = f"It crosses at {sign}{amount_text(abs(intercept.value), intercept.unit, 2, True)}"
    crossing += f", {significant(abs(z), 2)} standard uncertainties from the zero that the law requires."
    look = "Look for an offset that was not subtracted or subtracted twice, or a zero that was not checked."
    if p <= _OFF_ORIGIN:
        return [
            Finding(
                code="intercept", level="caution", at=at, title="The line misses the origin", say=f"{crossing} {look}"
            )
        ]
    few = f"With so few rows this happens by chance once in {significant(1 / p, 1)} times: take more rows, or check now. {look}"
    return [
        Finding(
            code="intercept-perhaps", level="note", at=at, title="The line may miss the origin", say=f"{crossing} {few}"
        )
    ]
