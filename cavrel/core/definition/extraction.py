"""What can be taken from a stretch of samples, and what each kind means for units, zeros and words."""

from dataclasses import dataclass
from typing import Literal

from cavrel.core.quantity.dimension import Dimension

ExtractionName = Literal["slope", "mean", "level", "period", "peak", "dip", "area"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Extraction:
    """One kind.

    ``fewest``: samples that it needs.
    ``words``: what it is of a stretch, in a sentence.
    ``of_time``: it is a time, whatever the samples are of.
    ``per_second``: power of the second that it has beyond the samples' unit.
    ``shifts``: an offset of all samples moves it by as much.
    """

    fewest: int
    words: str
    of_time: bool = False
    per_second: int = 0
    shifts: bool = False

    def dimension(self, samples: Dimension, second: Dimension) -> Dimension:
        """Of what is taken from ``samples``."""
        if self.of_time:
            return second
        if not self.per_second:
            return samples
        return samples / second if self.per_second < 0 else samples * second


EXTRACTIONS: dict[str, Extraction] = {
    "slope": Extraction(fewest=3, words="slope", per_second=-1),
    "mean": Extraction(fewest=2, words="mean", shifts=True),
    "level": Extraction(fewest=2, words="level", shifts=True),
    "period": Extraction(fewest=8, words="period", of_time=True),
    "peak": Extraction(fewest=7, words="time of the peak", of_time=True),
    "dip": Extraction(fewest=7, words="time of the dip", of_time=True),
    "area": Extraction(fewest=3, words="area", per_second=1),
}
