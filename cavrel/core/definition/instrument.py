"""Instruments understood: their amounts in SI, and the limits that makers print."""

import math
import re
from dataclasses import dataclass

from cavrel.core.definition import Instrument
from cavrel.core.errors import CavrelError, DefinitionError, UnitError
from cavrel.core.quantity import units


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuringInstrument:
    """An instrument with its amounts understood, SI; None where nothing is declared.

    ``name``: as the definition names it.
    ``label``: what it is called.
    ``least_count``: one step of its scale.
    ``reaction``: standard uncertainty of each reading by reaction.
    ``placement``: standard uncertainty of each reading by placing.
    ``calibration``: relative standard uncertainty of all readings together.
    ``zero``: standard uncertainty of all readings together by its zero.
    ``share``: relative limit, half-width of a rectangular distribution.
    ``offset``: limit, half-width of a rectangular distribution.
    ``each``: both limits act on each reading by itself.
    ``full_scale``: the largest reading it shows, None where nothing is said.
    ``dial``: settings have no last digit.
    ``step``: by which it can be set, SI, None where nothing is said.
    ``dead_time``: s, zero where none is declared.
    """

    name: str
    label: str
    least_count: float | None
    reaction: float | None
    placement: float | None
    calibration: float | None
    zero: float | None
    share: float | None = None
    offset: float | None = None
    each: bool = False
    full_scale: float | None = None
    dial: bool = False
    step: float | None = None
    dead_time: float = 0.0


_ACCURACY = re.compile(r"\s*(\d+(?:\.\d+)?)\s*%(?:\s*\+\s*(\d+)\s*digits?)?\s*")


def _printed_limits(name: str, body: Instrument, least_count: float | None) -> tuple[float | None, float | None]:
    """Relative and absolute limits from ``accuracy`` and ``class``."""
    share, offset = None, None
    if body.accuracy is not None:
        match = _ACCURACY.fullmatch(body.accuracy)
        if not match:
            raise DefinitionError(f"instruments.{name}.accuracy", "write it like '0.5 % + 2 digits'")
        share = float(match[1]) / 100 or None
        if match[2]:
            if least_count is None:
                raise DefinitionError(f"instruments.{name}.accuracy", "digits need a least_count: what one digit is")
            offset = int(match[2]) * least_count
    if body.accuracy_class is not None:
        if body.full_scale is None:
            raise DefinitionError(f"instruments.{name}.class", "a class is in percent of full_scale, which is missing")
        offset = (offset or 0.0) + body.accuracy_class / 100 * _amount(body.full_scale)
    return share, offset


def read_instrument(name: str, body: Instrument) -> MeasuringInstrument:
    """An instrument of a definition, understood. Raises DefinitionError naming the field at fault."""
    amounts: dict[str, float | None] = {}
    for field in ("least_count", "reaction", "placement", "calibration", "zero", "step"):
        text = getattr(body, field)
        try:
            amounts[field] = None if text is None else _amount(text)
        except CavrelError as fault:
            raise DefinitionError(f"instruments.{name}.{field}", fault.what) from fault
    if amounts["least_count"] is not None and not amounts["least_count"] > 0:
        raise DefinitionError(
            f"instruments.{name}.least_count", "is one step of a scale, so it must be larger than zero"
        )
    if amounts["step"] is not None and not amounts["step"] > 0:
        raise DefinitionError(f"instruments.{name}.step", "is one step of a dial, so it must be larger than zero")
    if body.calibration is not None and not units.quantity(body.calibration)[1].dimension.plain:
        raise DefinitionError(f"instruments.{name}.calibration", "is relative: write it like '0.1 %'")
    try:
        share, offset = _printed_limits(name, body, amounts["least_count"])
        full_scale = None if body.full_scale is None else _amount(body.full_scale)
    except UnitError as fault:
        raise DefinitionError(f"instruments.{name}.full_scale", fault.what) from fault
    return MeasuringInstrument(
        name=name,
        label=body.label or body.kind or name,
        **{field: amount for field, amount in amounts.items() if field != "step"},
        share=share,
        offset=offset,
        each=body.accuracy_acts == "each",
        full_scale=full_scale,
        dial=body.dial,
        step=amounts["step"],
        dead_time=_dead_time(name, body),
    )


def _dead_time(name: str, body: Instrument) -> float:
    if body.dead_time is None:
        return 0.0
    try:
        value, unit = units.quantity(body.dead_time)
    except UnitError as fault:
        raise DefinitionError(f"instruments.{name}.dead_time", fault.what) from fault
    if unit.dimension != units.unit("s").dimension or not 0 <= value < 1:
        raise DefinitionError(f"instruments.{name}.dead_time", "is a time under a second, such as '100 µs'")
    return value


def _amount(text: str) -> float:
    """A size without a zero of its own: 0.5 °C is half a kelvin."""
    value, unit = units.quantity(text)
    if not math.isfinite(value):
        raise UnitError("", f"'{text}' is too large")
    return abs(value - unit.offset)
