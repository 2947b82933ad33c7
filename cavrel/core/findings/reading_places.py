"""Where a reading stands: as a place, in words, and as what could be left out."""

from cavrel.core.definition.steps import Input
from cavrel.core.words import within


def place_of(entry: Input, row: int, trial: int) -> str:
    return f"quantities.{entry.name}" if entry.series is None else f"{entry.key}.{row}.{trial}"


def place_words(entry: Input, row: int, trial: int) -> str:
    if entry.series is None:
        return entry.label
    return f"Row {row}, trial {trial}" if entry.repeats > 1 else f"Row {row}, {within(entry.label)}"


def trial_out(spec: Input, row: int, trial: int) -> tuple[str, str, int, int] | None:
    return None if spec.series is None else (spec.series, spec.name, row, trial)
