"""How far a run has come: what is optional, spare or left out never keeps it unfinished."""

from cavrel import catalogue
from cavrel.core.logbook import assemble
from cavrel.core.logbook.progress import progress
from tests.core.test_logbook import PENDULUM, book, reading

LENGTHS = [reading(f"swings.L.{row}.1", "60.0") for row in range(1, 9)]
TRIALS = [reading(f"swings.t.{row}.{trial}", "31.1") for row in range(1, 9) for trial in range(1, 6)]
ONCE = [reading(f"quantities.{name}.1", "1.2") for name, q in PENDULUM.quantities.items() if not q.optional]


def of(*lines) -> tuple[int, int, bool]:
    come = progress(assemble(PENDULUM, book(*lines)))
    return come.taken, come.wanted, come.done


def test_a_run_is_done_when_all_that_it_needs_is_read() -> None:
    assert not of(*LENGTHS, *TRIALS[:-1])[2]
    assert of(*LENGTHS, *TRIALS, *ONCE)[2]


def test_an_added_trial_or_row_counts_once_it_is_used() -> None:
    before = of(*LENGTHS, *TRIALS, *ONCE)
    ruled = [("trials", "trials:swings.t", {"count": 6}), ("rows", "rows:swings", {"count": 9})]
    assert of(*LENGTHS, *TRIALS, *ONCE, *ruled) == before
    one_more = of(*LENGTHS, *TRIALS, *ONCE, *ruled, reading("swings.t.3.6", "31.0"))
    assert one_more == (before[0] + 1, before[1] + 1, True)
    begun = of(*LENGTHS, *TRIALS, *ONCE, *ruled, reading("swings.L.9.1", "150.0"))
    assert begun == (before[0], before[1] + 5, False)


def test_fewer_rows_ruled_are_fewer_readings_wanted() -> None:
    fewer = of(*LENGTHS[:6], *TRIALS[:30], *ONCE, ("rows", "rows:swings", {"count": 6}))
    assert fewer[2]


def test_a_row_left_out_is_not_waited_for() -> None:
    out = ("leave-out", "out:swings.8", {"reason": "the thread slipped"})
    assert of(*LENGTHS, *TRIALS[:-5], *ONCE, out)[2]


def test_an_optional_table_counts_from_its_first_reading() -> None:
    grating = catalogue.experiments()["grating"]
    assert grating.series["fringes"].optional
    blank = progress(assemble(grating, []))
    column = next(c for c, body in grating.series["fringes"].columns.items() if body.role == "measured")
    begun = progress(assemble(grating, book(reading(f"fringes.{column}.1.1", "2.31"))))
    assert blank.wanted < begun.wanted
    assert begun.taken == 1
