"""What quantities and columns should be set to, compared with what they were set to."""

import math

from cavrel.core.definition.steps import Input
from cavrel.core.quantity.reading import decimals_of
from cavrel.core.quantity.rounding import fixed, significant
from cavrel.core.quantity.value import amount_text
from cavrel.present import texts
from cavrel.service.run_view import RunView


def to_step(value: float, spec: Input) -> str:
    """A value, SI, as it can be set with what a quantity or column is set with, in its unit."""
    assert spec.gauge is not None
    assert spec.gauge.step is not None
    nearest = round(value / spec.gauge.step) * spec.gauge.step
    return fixed(spec.unit.from_si(nearest), decimals_of(spec.gauge.step, spec.unit)).replace("−", "-")


def says_needed(opened: RunView) -> bool:
    """Whether any quantity has a value that it ought to be set to."""
    return any("." not in key for key in opened.program.suggestions)


def needed(opened: RunView, name: str) -> str:
    """What a quantity ought to be set to, to the step of what it is set with, and how far what was set lies from it; empty where nothing says."""
    wanted = opened.analysis.suggested(name)
    if name not in opened.program.suggestions or len(wanted) != 1:
        return ""
    spec = opened.program.input_of[name]
    value, unit = float(wanted[0]), spec.unit
    formula = next(s.formula for s in opened.program.definition.suggest if s.target == name)
    result = opened.definition.results.get(formula)
    formula = result.formula if result is not None and result.formula else formula
    said = [f"needed {amount_text(value, unit, 5)} = {texts.one_line(formula)}"]
    if spec.gauge is not None and spec.gauge.step:
        said.append(f"the {spec.gauge.label} can be set to {to_step(value, spec)} {unit.pretty}")
    typed = opened.analysis.values[name].value[0] if name in opened.analysis.values else math.nan
    if math.isfinite(typed) and value:
        off = typed / value - 1
        said.append(
            "set as needed"
            if abs(off) < 5e-5
            else f"set {significant(abs(100 * off), 2)} % {'above' if off > 0 else 'below'} it"
        )
    return "; ".join(said)


def suggested(opened: RunView, key: str) -> list[str]:
    """The planned set points of a column as texts, or those that the definition suggests; of these none once the bench has begun with its
    own."""
    series, column = key.split(".")
    begun = column in opened.state.run.series.get(series, {})
    planned = opened.state.run.plan.settings.get(key)
    if planned:
        return list(planned)
    if key not in opened.program.suggestions or begun:
        return []
    unit = opened.program.suggestions[key][1]
    numbers = opened.analysis.suggested(key)
    spec = opened.program.input_of[key]
    if spec.gauge is not None and spec.gauge.step:
        return [to_step(float(number), spec) for number in numbers]
    if spec.gauge is None or not spec.gauge.least_count:
        return [f"{unit.from_si(float(number)):.3g}" for number in numbers]
    places = decimals_of(spec.gauge.least_count, unit)
    return [f"{unit.from_si(float(number)):.{places}f}" for number in numbers]
