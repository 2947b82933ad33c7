"""The shared lists that ship: instruments by kind, families of them, accepted values."""

import math
import tomllib
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from cavrel.catalogue import constants
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.plan.improvements import Family
from cavrel.core.quantity import units

HERE = Path(__file__).resolve().parent


@lru_cache(maxsize=1)
def instruments() -> Mapping[str, Mapping[str, Any]]:
    """The shared instrument list by kind."""
    return {kind: {k: v for k, v in body.items() if k not in ("family", "reach")} for kind, body in _list().items()}


@lru_cache(maxsize=1)
def families() -> Mapping[str, Family]:
    """By kind of instrument: what can stand in for it, and how far it reaches; those without a family stand alone."""
    return {
        kind: Family(name=body["family"], reach=units.quantity(body["reach"])[0] if "reach" in body else math.inf)
        for kind, body in _list().items()
        if "family" in body
    }


@lru_cache(maxsize=1)
def _list() -> Mapping[str, Mapping[str, Any]]:
    return tomllib.loads((HERE / "instruments.toml").read_text(encoding="utf-8"))


@lru_cache(maxsize=1)
def accepted() -> Mapping[str, ReferenceValue]:
    """Named accepted values."""
    return constants.table()
