"""What an experiment is: the models of its definition. The program compiled from them is in `program` and `steps`."""

from cavrel.core.definition.evaluation import Fit, Force, Picture, Prediction, Result, Shape
from cavrel.core.definition.loading import choose, fault_of, first_fault, load
from cavrel.core.definition.parts import FIELDS, NAME, Amount, Formula, Identifier, Key, Line, UnitText
from cavrel.core.definition.readings import Column, Instrument, Quantity, Series
from cavrel.core.definition.simulation import Fault, Simulate
from cavrel.core.definition.whole import FORMAT, Definition
from cavrel.core.definition.work import Check, Choice, Identity, Option, Remark, Step, Suggest, Timer

__all__ = [
    "FIELDS",
    "FORMAT",
    "NAME",
    "Amount",
    "Check",
    "Choice",
    "Column",
    "Definition",
    "Fault",
    "Fit",
    "Force",
    "Formula",
    "Identifier",
    "Identity",
    "Instrument",
    "Key",
    "Line",
    "Option",
    "Picture",
    "Prediction",
    "Quantity",
    "Remark",
    "Result",
    "Series",
    "Shape",
    "Simulate",
    "Step",
    "Suggest",
    "Timer",
    "UnitText",
    "choose",
    "fault_of",
    "first_fault",
    "load",
]
