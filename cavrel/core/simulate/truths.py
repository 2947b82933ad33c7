"""What a simulation knows before it reads anything: true values, and how far single readings scatter."""

from collections.abc import Mapping

import numpy as np

from cavrel.core.definition.steps import Input, Program
from cavrel.core.simulate.apparatus import Apparatus


def truth(program: Program, seed: int) -> Mapping[str, float]:
    """True values of the definition's results in the run of this ``seed``, where its simulation states them by the result's own name."""
    plan = program.definition.simulate
    if plan is None:
        return {}
    with np.errstate(all="ignore"):
        apparatus = Apparatus(program, np.random.default_rng(seed))
    return {name: float(apparatus.true[name][0, 0]) for name in program.definition.results if name in plan.truth}


def own_size(program: Program, spec: Input) -> float:
    """Standard deviation of single readings of ``spec`` by the simulation, SI. Raises DefinitionError."""
    with np.errstate(all="ignore"):
        return Apparatus(program, np.random.default_rng(0)).own_size(spec)
