"""Random numbers of a simulation that do not depend on what was drawn before."""

from zlib import crc32

import numpy as np


def of_its_own(seed: int, *places: str | int) -> np.random.Generator:
    """Random numbers that belong to one place of a run, whatever was drawn for others before."""
    numbers = [crc32(place.encode()) if isinstance(place, str) else place for place in places]
    return np.random.default_rng([seed, *numbers])
