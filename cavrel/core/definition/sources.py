"""Where an instrument's figures come from, in words: of the shared list, and of whoever stated some of them otherwise."""

from collections.abc import Mapping
from typing import Any

_FIGURES = {
    "least_count": "least count",
    "reaction": "reaction time",
    "placement": "positioning",
    "calibration": "calibration",
    "zero": "zero",
    "accuracy": "accuracy",
    "class": "class",
    "full_scale": "full scale",
    "step": "step",
    "dead_time": "dead time",
}


def source_of(usual: Mapping[str, Any], own: Mapping[str, Any], by: str) -> str:
    """Of an instrument whose fields are those of ``usual`` where ``own`` states none; ``by``: who states them, such as ``as stated for the run``."""
    if own.get("source"):
        return str(own["source"])
    rest = str(usual.get("source") or "")
    stated = [words for field, words in _FIGURES.items() if field in own and own[field] != usual.get(field)]
    if not stated:
        return rest
    said = f"{', '.join(stated)} {by}"
    return f"{said}; otherwise {rest}" if rest else said
