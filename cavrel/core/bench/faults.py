"""What can be wrong with the instruments themselves, whatever the experiment."""

from cavrel.core.definition.steps import Program
from cavrel.core.errors import DefinitionError


def instrument_faults(program: Program) -> list[tuple[str, str]]:
    """(name, words) of what can be wrong with the instruments themselves: a zero that is off, a scale that is not true."""
    found = []
    for name, gauge in program.gauges.items():
        used = [s for s in program.inputs if s.gauge is gauge and not s.exact and not s.count]
        if not used or program.definition.instruments[name].kind == "":
            continue
        if gauge.least_count and not gauge.dial:
            found.append((f"zero:{name}", f"{gauge.label}: its zero is off"))
        if not any(s.unit.offset for s in used):
            found.append((f"scale:{name}", f"{gauge.label}: leans, or its scale is not true"))
    return found


_LEANS = 0.02
"""A rule that leans by eleven degrees reads so much too large."""


def of_instrument(program: Program, fault: str) -> tuple[float, float]:
    """(share, offset SI) by which a fault puts an instrument wrong. Raises DefinitionError for one that there is not."""
    what, _, name = fault.partition(":")
    gauge = program.gauges.get(name)
    if gauge is None or what not in ("zero", "scale"):
        raise DefinitionError(f"faults.{fault}", "there is no such fault")
    if what == "scale":
        return _LEANS, 0.0
    return 0.0, max(6 * (gauge.least_count or 0.0), 8 * (gauge.zero or 0.0))
