"""From a compiled definition and a sheet of readings to everything that follows. See `records` for what it gives."""

from cavrel.core.analysis.records import (
    Analysis,
    Comparison,
    ForcePicture,
    PredictionAnalysis,
    ResultAnalysis,
    Values,
)
from cavrel.core.analysis.runner import analyse, analyse_sheet

__all__ = [
    "Analysis",
    "Comparison",
    "ForcePicture",
    "PredictionAnalysis",
    "ResultAnalysis",
    "Values",
    "analyse",
    "analyse_sheet",
]
