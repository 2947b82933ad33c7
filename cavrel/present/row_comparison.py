"""A result compared with single rows and with a line through the origin, in words, with which of them to use."""

from cavrel.core.analysis.through_origin import Otherwise, otherwise
from cavrel.core.document import result_text
from cavrel.core.quantity.rounding import significant
from cavrel.core.words import plural
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@optional("rows compared with the line", dict)
def found(opened: RunView) -> dict[str, str]:
    """By result, what to say of it, where its line's free intercept hides what the rows say."""
    if "otherwise" not in opened.shown:
        opened.shown["otherwise"] = {name: _says(opened, one) for name, one in otherwise(opened.analysis).items()}
    said: dict[str, str] = opened.shown["otherwise"]
    return said


def _says(opened: RunView, one: Otherwise) -> str:
    analysis, unit = opened.analysis, one.free.unit
    free, forced = result_text(analysis, one.free), result_text(analysis, one.forced)
    low, high = (significant(unit.from_si(float(v)), 3) for v in (one.rows.min(), one.rows.max()))
    row = opened.definition.series[opened.program.fits[one.fit].series].row
    rows = f"Single {plural(row)} give {low} to {high} {unit.pretty}".strip()
    both = f"{rows}, a line through the origin {forced}, the line with its intercept free {free}."
    times = significant(abs(one.z), 2)
    if one.chance:
        why = (
            f"Use the line through the origin: the law requires it, and the intercept is only {times} standard uncertainties from zero. "
            f"Readings that cover {100 * one.reach:.0f} % of the way to the origin barely separate slope and intercept."
        )
    else:
        why = (
            f"Use the line with its intercept: it misses the origin by {times} standard uncertainties, so something adds the same amount to every "
            "row, and each single row is off by it. Find the cause."
        )
    return f"{both} {why}"
