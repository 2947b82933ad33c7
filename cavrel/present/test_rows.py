"""Rows kept aside to test a line: what it predicts for them, and what was read."""

import math
from dataclasses import dataclass

from cavrel.core.analysis import one_more
from cavrel.core.formula.text import unparse
from cavrel.core.logbook import effective
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import amount_text
from cavrel.present import texts
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

REASONS = ("test row", "tests the prediction")
"""Reasons by which a row is left out to test the line, now and in older logbooks; a bench may write more after it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Tested:
    """``row``: its number. ``fit``: what the line is called. ``what``: what is predicted, as a formula. ``predicted``: with its interval for one more
    reading, empty while nothing is set or no line is there. ``read``: what the row gives, empty while nothing is. ``verdict``: in words. ``agrees``:
    it lies in the interval. ``waits``: what is missing."""

    row: int
    fit: str
    what: str
    predicted: str
    read: str
    verdict: str
    agrees: bool | None
    waits: str


@optional("the rows that test a line", list)
def tested(opened: RunView) -> list[Tested]:
    """Every row kept aside, for each line of its table."""
    found = []
    for slot, entry in opened.state.left_out.items():
        series, _, number = slot.partition(".")
        reason = str(effective(entry)[1].get("reason", ""))
        if not number.isdigit() or series not in opened.definition.series or not reason.startswith(REASONS):
            continue
        for name, body in opened.definition.fits.items():
            if body.series == series and body.x is not None:
                found.append(_tested(opened, name, int(number)))
    return sorted(found, key=lambda t: t.row)


def _tested(opened: RunView, name: str, row: int) -> Tested:
    fit, step = opened.analysis.fits[name], opened.program.fits[name]
    label = opened.definition.fits[name].label or name
    unit = step.y_unit
    what = texts.one_line(unparse(step.y))
    x = float(fit.x[row - 1]) if row <= len(fit.x) else math.nan
    y = float(fit.y[row - 1]) if row <= len(fit.y) else math.nan
    read = amount_text(y, unit, 4) if math.isfinite(y) else ""
    waits = "" if fit.drawable else "no line yet"
    waits = waits or ("" if math.isfinite(x) else "enter its value first")
    if waits:
        return Tested(row=row, fit=label, what=what, predicted="", read=read, verdict="", agrees=None, waits=waits)
    low, middle, high = one_more.at(opened.analysis, fit, x)
    shown = amount_text(middle, unit, 4)
    within = (
        f"{significant(unit.from_si(low), 4)} to {significant(unit.from_si(high), 4)}" if math.isfinite(low) else ""
    )
    agrees = low <= y <= high if math.isfinite(y) and math.isfinite(low) else None
    outside = " It lies outside the measured range." if one_more.outside(fit, x) else ""
    verdict = (
        "" if agrees is None else "as predicted." if agrees else "not as predicted: check the reading, then the line."
    )
    return Tested(
        row=row,
        fit=label,
        what=what,
        predicted=f"{shown}, between {within} in 95 % of readings" if within else shown,
        read=read,
        verdict=f"{verdict}{outside}".strip(),
        agrees=agrees,
        waits="",
    )
