"""A remark on a run: what stands in the margin."""

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Finding:
    """A remark. ``code``: what kind; ``level``: note, caution, danger; ``at``: ``swings.t.4.2``, ``swings.4``, ``fits.line``, ``quantities.N``.

    ``title`` and ``say``: for people. ``trial_out``: the trial that leaving out would answer it, as (series, column, row, trial);
    ``row_out``: the row, as (series, row). ``seen``: the texts it rests on, so that a decision lapses when they change.
    """

    code: str
    level: str
    at: str
    title: str
    say: str
    trial_out: tuple[str, str, int, int] | None = None
    row_out: tuple[str, int] | None = None
    seen: str = field(default="", compare=False)
