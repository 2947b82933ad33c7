"""A definition checked against its own simulation: what it reads has the right unit, and its results come back as they truly are."""

import math
from collections.abc import Mapping

import numpy as np

from cavrel.core.analysis import analyse
from cavrel.core.definition.steps import Derived, Program, ResultStep
from cavrel.core.errors import CavrelError, DefinitionError, FormulaError
from cavrel.core.formula.dimension import Kind, infer
from cavrel.core.formula.nodes import Member, Name
from cavrel.core.formula.parse import parse
from cavrel.core.logbook import run as runs
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension
from cavrel.core.quantity.rounding import significant
from cavrel.core.simulate import simulate, truth

_SEEDS = 3
_FAR = 6.0
"""Standard uncertainties by which every one of the rehearsals has to be off: chance does that to no definition."""
_LARGE = 0.02
"""And this share, so that a law of first order is not taken for a wrong one."""


def rehearse(program: Program, options: Mapping[str, str] | None = None) -> None:
    """Let the simulation go through the experiment without a fault.

    Raises DefinitionError for a formula of the simulation whose unit does not fit what it reads, and for a result that does not come back as its
    own truth, with the factor between them.
    """
    if program.definition.simulate is None:
        return
    _units(program)
    off: dict[str, list[float]] = {}
    for seed in range(_SEEDS):
        true = truth(program, seed)
        results = analyse(program, runs.load(simulate(program, seed, options=options))).results
        for name, value in true.items():
            found = results[name]
            if not (math.isfinite(found.value) and math.isfinite(found.u)):
                continue
            if abs(found.value - value) > _FAR * found.u and abs(found.value - value) > _LARGE * abs(value):
                off.setdefault(name, []).append(found.value / value if value else math.nan)
    for name, factors in off.items():
        if len(factors) == _SEEDS:
            factor = float(np.mean(factors))
            times = f": it is about {significant(factor, 2)} times that" if math.isfinite(factor) else ""
            raise DefinitionError(
                f"results.{name}.formula", f"the simulation's readings do not give its own true value back{times}"
            )


def _units(program: Program) -> None:
    plan = program.definition.simulate
    assert plan is not None
    known: dict[str, Dimension] = {"pi": PLAIN, "row": PLAIN}
    known |= {name: units.unit(value.unit).dimension for name, value in program.accepted.items()}
    wanted = {spec.key: spec.unit.dimension for spec in program.inputs}
    wanted |= {step.key: step.unit.dimension for step in program.steps if isinstance(step, Derived)}
    results = {step.key: step.unit.dimension for step in program.steps if isinstance(step, ResultStep)}

    def kind(text: str, series: str | None, place: str) -> Dimension | None:
        def scope(node: Name | Member) -> Kind:
            name = f"{node.owner}.{node.name}" if isinstance(node, Member) else node.name
            here = f"{series}.{name}" if series else name
            for key in (here, name):
                if key in known:
                    return Kind(known[key])
                if key in wanted:
                    return Kind(wanted[key])
            raise FormulaError("", f"'{name}' has no true value")

        try:
            return infer(parse(text), scope).dimension
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault

    def fits(found: Dimension | None, should: Dimension | None, place: str) -> None:
        if found is not None and should is not None and found != should:
            raise DefinitionError(place, f"is {found.words()}, where {should.words()} is read")

    for name, text in plan.truth.items():
        found = kind(text, None, f"simulate.truth.{name}")
        fits(found, wanted.get(name, results.get(name)), f"simulate.truth.{name}")
        if found is not None:
            known[name] = found
    faults = {
        f"simulate.faults.{n}.{part}": getattr(f, part)
        for n, f in plan.faults.items()
        for part in ("read", "row", "once")
    }
    for place, formulas in {"simulate.read": plan.read, **faults}.items():
        for key, text in formulas.items():
            fits(kind(text, _series(key), f"{place}.{key}"), wanted.get(key), f"{place}.{key}")
    second = units.unit("s").dimension
    known["time"] = second
    for key, record in plan.record.items():
        samples, place = units.unit(record.unit).dimension, f"simulate.record.{key}"
        for field, should in (("value", samples), ("noise", samples), ("lasting", second), ("rate", PLAIN / second)):
            fits(
                kind(getattr(record, field), _series(key) if field == "value" else None, f"{place}.{field}"),
                should,
                f"{place}.{field}",
            )
    metre = units.unit("m").dimension
    for line in plan.lamp:
        fits(kind(line.wave, None, "simulate.lamp"), metre, "simulate.lamp")
    for key, seek in plan.seek.items():
        known["at"] = known["found"] = known["unspoilt"] = wanted[key]
        place = f"simulate.seek.{key}"
        known |= {"wave": metre, "order": PLAIN}
        for field, should in (("response", PLAIN), ("loops", PLAIN), ("place", wanted[key])):
            text = getattr(seek, field)
            if text is not None:
                fits(kind(text, _series(key), f"{place}.{field}"), should, f"{place}.{field}")


def _series(key: str) -> str | None:
    return key.split(".")[0] if "." in key else None
