"""What the simulated apparatus hides from who measures with it."""

from collections.abc import Mapping

import numpy as np

from cavrel.core.definition.steps import Program
from cavrel.core.simulate.apparatus import Apparatus


def truths(program: Program, seed: int) -> Mapping[str, float]:
    """SI values that the apparatus of this ``seed`` hides: of results by their own name, as far as the simulation states them."""
    plan = program.definition.simulate
    if plan is None:
        return {}
    with np.errstate(all="ignore"):
        own = Apparatus(program, np.random.default_rng(seed), hidden=seed)
    return {name: float(np.ravel(own.true[name])[0]) for name in program.definition.results if name in plan.truth}
