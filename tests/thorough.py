"""What an ordinary run of the tests leaves out, for it ends within minutes: the same question put to every experiment, statistics of many
simulated runs, servers killed in one more way. ``./run test --thorough`` runs all of it."""

import os
from collections.abc import Sequence

import pytest

TIMES = int(os.environ.get("CAVREL_FUZZ", "1"))
"""How many times as many cases random tests draw."""
THOROUGH = TIMES > 1
SAMPLE = ("pendulum", "half-life", "metre-bridge", "projectile-range", "stefan-constant", "collisions", "balanced-rule")
"""Timed swings; counts; a null; two parts with a correction; a curve; traces of two carts; no fit at all."""

thorough = pytest.mark.skipif(not THOROUGH, reason="only in ./run test --thorough")


def some(experiments: Sequence[str], sample: Sequence[str] = SAMPLE) -> list[str]:
    """Those experiments that stand for all others; all of them in a thorough run."""
    return [name for name in experiments if THOROUGH or name in sample]
