"""Experiments as physics has them, against which the definitions are held."""

from tests.physics import classics, fields, mechanics

MODELS = {**mechanics.MODELS, **fields.MODELS, **classics.MODELS}
