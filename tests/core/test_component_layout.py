"""Where components stand in the batch: laid out once for the cells that hold readings, whatever the readings are."""

import numpy as np
import pytest

from cavrel.core.definition.steps import Program
from cavrel.core.fit.least_squares import one_step, response, step_of
from tests.core.test_components import run

ROWS = [["31.0", "31.2"], ["33.9", "34.1"], ["36.6", "36.9"]]


def test_other_readings_in_the_same_cells_keep_their_places(pendulum: Program) -> None:
    one = run(pendulum, ROWS)
    other = run(pendulum, [[text.replace("3", "4") for text in row] for row in ROWS])
    fewer = run(pendulum, [*ROWS[:2], [""]])
    assert other.perturbations.layout is one.perturbations.layout
    assert fewer.perturbations.layout is not one.perturbations.layout
    assert not np.array_equal(one.values["swings.T"].value, other.values["swings.T"].value)


def test_what_all_sheets_share_cannot_be_written(pendulum: Program) -> None:
    layout = run(pendulum, ROWS).perturbations.layout
    with pytest.raises(ValueError, match="read-only"):
        layout.together[0] = False
    with pytest.raises(ValueError, match="read-only"):
        layout.places[0] = 1


def test_rows_left_out_have_a_spread_of_their_own(pendulum: Program) -> None:
    layout = run(pendulum, ROWS).perturbations.layout
    whole, part = layout.spread(np.arange(3), 3), layout.spread(np.array([0, 2]), 3)
    assert layout.spread(np.arange(3), 3) is whole
    assert set(part.at.tolist()) == {0, 1}
    assert set(part.wide.tolist()) < set(whole.wide.tolist())


@pytest.mark.parametrize("columns", [1, 2, 3])
def test_a_step_is_the_one_of_normal_equations(columns: int) -> None:
    """One set of points, a batch, and the linear response give one and the same step, which NumPy gives too."""
    rng = np.random.default_rng(columns)
    design, left, w = rng.normal(size=(9, columns)), rng.normal(size=9), rng.uniform(0.5, 2, 9)
    root = np.sqrt(w)
    wanted = np.linalg.lstsq(design * root[:, None], left * root, rcond=None)[0]
    found = one_step(design * root[:, None], left * root)
    assert found is not None
    assert np.array(found[0]) / np.array(found[1]) == pytest.approx(wanted, rel=1e-10)
    assert step_of(design[None], left[None], w)[0] == pytest.approx(wanted, rel=1e-10)
    gain, basis = response(design, w)
    assert gain @ left == pytest.approx(wanted, rel=1e-10)
    assert basis.T @ basis == pytest.approx(np.eye(columns), abs=1e-12)


def test_columns_that_are_one_column_give_no_step() -> None:
    column = np.linspace(1, 2, 5)
    assert one_step(np.stack([column, 3 * column], axis=1), np.ones(5)) is None
    assert one_step(np.stack([column, np.zeros(5)], axis=1), np.ones(5)) is None
