"""Effects that nobody named: a column or a quantity that is too large or too small by a share, the same in all rows or growing with the row."""

from collections.abc import Iterator

import numpy as np

from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

_SHARES = np.geomspace(0.004, 0.3, 8)


def proposed(readings: Readings) -> Iterator[Hypothesis]:
    """Every column that is measured and every quantity, by shares of either sign."""
    for entry in readings.typed():
        spec = entry.spec
        if spec.chosen or spec.whole or spec.unit.offset or spec.exact:
            continue
        means = readings.analysis.nominal[spec.key][0][:, None]
        rise = np.arange(1.0, entry.rows + 1)[:, None] / entry.rows
        shapes = [np.ones((entry.rows, 1)), rise] if spec.series is not None and entry.rows > 2 else [np.ones((1, 1))]
        for shape in shapes:
            for share in (*_SHARES.tolist(), *(-_SHARES).tolist()):
                yield Hypothesis(
                    family="unnamed",
                    at="unnamed",
                    say="",
                    do="",
                    share=1.0 / len(shapes),
                    columns={spec.key: entry.values + share * shape * means},
                )
