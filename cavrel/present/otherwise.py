"""A result beside what each row alone and a line through the origin say, in words, with which of them to believe."""

from cavrel.core.analysis.through_origin import Otherwise, otherwise
from cavrel.core.document import result_text
from cavrel.core.quantity.rounding import significant
from cavrel.core.words import counted
from cavrel.present.optional import optional
from cavrel.service.opened import Opened


@optional("rows beside the line", dict)
def found(opened: Opened) -> dict[str, str]:
    """By result, what to say of it, where its line's free intercept hides what the rows say."""
    if "otherwise" not in opened.shown:
        opened.shown["otherwise"] = {name: _says(opened, one) for name, one in otherwise(opened.analysis).items()}
    said: dict[str, str] = opened.shown["otherwise"]
    return said


def _says(opened: Opened, one: Otherwise) -> str:
    analysis, unit = opened.analysis, one.free.unit
    free, forced = result_text(analysis, one.free), result_text(analysis, one.forced)
    low, high = (significant(unit.from_si(float(v)), 3) for v in (one.rows.min(), one.rows.max()))
    row = opened.definition.series[opened.program.fits[one.fit].series].row
    rows = f"Each of the {counted(len(one.rows), row)} alone gives {low} to {high} {unit.pretty}".strip()
    both = f"{rows}, a line through the origin {forced}, the line with its intercept free {free}."
    times = significant(abs(one.z), 2)
    if one.chance:
        why = (
            f"Believe the line through the origin: the law sends it there, and the intercept is only {times} standard uncertainties from zero. "
            f"Readings that span {100 * one.reach:.0f} % of the way to the origin hardly tell a slope from an intercept."
        )
    else:
        why = (
            f"Believe the line with its intercept: it misses the origin by {times} standard uncertainties, so something adds the same to every "
            "row, and each row alone is off by it. Find what it is."
        )
    return f"{both} {why}"
