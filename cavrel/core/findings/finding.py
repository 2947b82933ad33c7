"""A remark on a run: what stands in the margin."""

from dataclasses import dataclass, field

from cavrel.core.logbook.slots import Slot


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """A remark on a run.

    ``code``: what kind.
    ``level``: ``note``, ``caution`` or ``danger``.
    ``at``: ``swings.t.4.2``, ``swings.4``, ``fits.line``, ``results.g``, ``quantities.N`` or ``run``.
    ``title``: for people.
    ``say``: for people, whole sentences.
    ``trial_out``: the trial that leaving out would answer it, as (series, column, row, trial).
    ``row_out``: the row that would, as (series, row).
    ``rows_out``: several rows that would, as (series, row).
    ``seen``: the texts it rests on, so that a decision lapses when they change.
    """

    code: str
    level: str
    at: str
    title: str
    say: str
    trial_out: tuple[str, str, int, int] | None = None
    row_out: tuple[str, int] | None = None
    rows_out: tuple[tuple[str, int], ...] = ()
    seen: str = field(default="", compare=False)

    @property
    def slot(self) -> Slot | None:
        """The reading, row or quantity it is about; None for a fit, a result or the run."""
        return Slot.read(self.at)

    @property
    def series(self) -> str:
        """The table it is about, empty for none."""
        slot = self.slot
        return slot.series if slot is not None else ""

    @property
    def fit(self) -> str:
        """The fit it is about, empty for none."""
        return self._named("fits")

    @property
    def result(self) -> str:
        """The result it is about, empty for none."""
        return self._named("results")

    def _named(self, kind: str) -> str:
        of, _, name = self.at.partition(".")
        return name if of == kind else ""
