"""An instrument exchanged in the course of a run: readings keep the one that they were taken with; another all along is a correction."""

import math
from datetime import datetime, timezone

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.document.notebook import notebook
from cavrel.core.findings import findings_of
from cavrel.core.logbook import Entry, assemble
from cavrel.core.logbook.unfold import acts
from cavrel.present import instrument_changes
from cavrel.service.run_view import RunView, compute
from cavrel.store.runs import Run
from tests.core.machine import definition as made_of

LENGTHS = ("40.0", "60.0", "80.0", "100.0", "120.0", "140.0")
NOW = datetime(2026, 12, 1, tzinfo=timezone.utc)
GATE = {"kind": "photogate timer"}
PENDULUM = catalogue.experiments()["pendulum"]

Act = tuple[str, str, dict[str, object]]


def entries(*made: Act) -> tuple[Entry, ...]:
    return tuple(
        Entry(id=i, kind=kind, slot=slot, body=body, author="", made_at=NOW, saved_at=NOW)
        for i, (kind, slot, body) in enumerate(made, 1)
    )


def opened(*made: Act, of=PENDULUM) -> RunView:
    run = Run(
        id=0, title="A bob", course=0, course_title="", laboratory=0, digest="", rules={}, instruments={}, bench="",
        hash=of.content_hash(), experiment=of.id, made_at=NOW, newest=0,
    )  # fmt: skip
    return compute(run, of, entries(*made))


def timed(rows: range, trials: int = 1, decimals: int = 2) -> list[Act]:
    found: list[Act] = []
    for row in rows:
        length = float(LENGTHS[row - 1])
        found.append(("reading", f"swings.L.{row}.1", {"text": LENGTHS[row - 1]}))
        for trial in range(1, trials + 1):
            time = 20 * 2 * math.pi * math.sqrt(length / 981) + 0.01 * trial
            found.append(("reading", f"swings.t.{row}.{trial}", {"text": f"{time:.{decimals}f}"}))
    return found


START: list[Act] = [("reading", "quantities.N.1", {"text": "20"})]
CHANGE: Act = ("instrument", "instrument:watch", GATE)


def own_u(found: RunView, column: str = "swings.t") -> list[float]:
    return found.analysis.values[column].u.tolist()


def test_what_was_timed_by_hand_stays_timed_by_hand() -> None:
    by_hand = opened(*START, *timed(range(1, 7)))
    by_gate = opened(*START, CHANGE, *timed(range(1, 7), decimals=4))
    both = opened(*START, *timed(range(1, 4)), CHANGE, *timed(range(4, 7), decimals=4))
    assert own_u(both)[:3] == pytest.approx(own_u(by_hand)[:3], rel=1e-6)
    assert own_u(both)[3:] == pytest.approx(own_u(by_gate)[3:], rel=1e-6)
    assert own_u(by_hand)[0] > 5 * own_u(by_gate)[0]
    (before,) = both.state.run.taken_with["watch"]
    assert before.places == [f"swings.t.{row}.1" for row in (1, 2, 3)]
    assert both.state.run.instruments["watch"] == GATE
    (said,) = instrument_changes.sentences(both)
    assert said == "Time for N swings: rows 1 to 3 with the stopwatch; after that with the photogate"
    assert instrument_changes.rows(both, "swings") == {4}
    assert instrument_changes.taken(both, "watch") == 3


def test_a_change_with_a_reason_was_so_all_along() -> None:
    changed = ("instrument", "instrument:watch", {**GATE, "reason": "it was the gate from the start"})
    both = opened(*START, *timed(range(1, 4)), changed, *timed(range(4, 7)))
    assert both.state.run.taken_with == {}
    assert own_u(both) == pytest.approx(own_u(opened(*START, CHANGE, *timed(range(1, 7)))), rel=1e-6)
    assert both.state.run.instruments["watch"] == GATE


def test_a_change_before_the_first_reading_and_one_that_is_undone_leave_no_trace() -> None:
    assert opened(*START, CHANGE, *timed(range(1, 4))).state.run.taken_with == {}
    undone: Act = ("undo", "instrument:watch", {"undoes": 8, "kind": None, "body": {}})
    back = opened(*START, *timed(range(1, 4)), CHANGE, undone, *timed(range(4, 7)))
    assert back.state.run.taken_with == {}
    assert own_u(back) == pytest.approx(own_u(opened(*START, *timed(range(1, 7)))), rel=1e-6)


def test_mending_a_number_is_no_reading_with_the_new_one_and_reading_it_again_is() -> None:
    mended: Act = ("correction", "swings.t.2.1", {"text": "31.10", "was": "31.09", "reason": "misread"})
    found = opened(*START, *timed(range(1, 4)), CHANGE, mended)
    assert found.state.run.taken_with["watch"][0].places == [f"swings.t.{row}.1" for row in (1, 2, 3)]
    anew: list[Act] = [("reading", "swings.t.2.1", {"text": ""}), ("reading", "swings.t.2.1", {"text": "31.1042"})]
    found = opened(*START, *timed(range(1, 4)), CHANGE, *anew)
    assert found.state.run.taken_with["watch"][0].places == ["swings.t.1.1", "swings.t.3.1"]


def test_no_remark_asks_for_the_digits_of_an_instrument_that_did_not_read_it() -> None:
    both = opened(*START, *timed(range(1, 4)), CHANGE, *timed(range(4, 7), decimals=4))
    assert not [f for f in findings_of(both.analysis) if f.code.startswith("decimals")]
    wrong = opened(*START, *timed(range(1, 4)), CHANGE, *timed(range(4, 7), decimals=2))
    said = [f for f in findings_of(wrong.analysis) if f.code == "decimals-fewer"]
    assert said and "photogate" in said[0].say


METER = made_of(
    instruments={"volts": {"label": "old meter", "least_count": "0.01 V", "calibration": "5 %", "zero": "0.02 V"}},
    quantities={},
    series={
        "s": {
            "label": "S",
            "columns": {"V": {"label": "Voltage", "unit": "V", "role": "measured", "instrument": "volts"}},
        }
    },
    results={
        "V": {"label": "Mean", "formula": "mean(s.V)", "unit": "V"},
        "first": {"label": "First", "formula": "first(s.V)", "unit": "V"},
    },
)
NEW = {"label": "new meter", "least_count": "0.01 V", "calibration": "1 %", "zero": "0.01 V"}


def volts(*rows: int, text: str = "2.00") -> list[Act]:
    return [("reading", f"s.V.{row}.1", {"text": text}) for row in rows]


def test_what_is_shared_is_shared_by_what_one_instrument_read() -> None:
    """Two rows with 5 %, two with 1 %: the mean has half of each, not the sum of both over all."""
    both = opened(*volts(1, 2), ("instrument", "instrument:volts", NEW), *volts(3, 4), of=METER)
    last = 0.01 / math.sqrt(12)
    expected = math.hypot(0.5 * 2 * 0.05, 0.5 * 2 * 0.01, 0.5 * 0.02, 0.5 * 0.01, last / 2)
    assert both.analysis.results["V"].u == pytest.approx(expected, rel=1e-3)
    assert both.analysis.results["first"].u == pytest.approx(math.hypot(0.1, 0.02, last), rel=1e-3)
    drawn = monte_carlo(both.analysis, 200_000)
    assert drawn["V"].u == pytest.approx(expected, rel=0.02)
    sources = {source.source for source in both.analysis.results["V"].budget}
    assert {"old meter, calibration", "new meter, calibration"} <= sources


def test_the_notebook_finds_the_same() -> None:
    both = opened(*volts(1, 2), ("instrument", "instrument:volts", NEW), *volts(3, 4, text="2.02"), of=METER)
    code = "\n\n".join(
        "".join(cell["source"]) for cell in notebook(both.analysis)["cells"] if cell["cell_type"] == "code"
    )
    space: dict[str, object] = {}
    exec(compile(code, "notebook", "exec"), space)
    found = next(v for k, v in space.items() if k == "results")  # type: ignore[index]
    assert found["V"].std_dev == pytest.approx(both.analysis.results["V"].u, rel=1e-3)  # type: ignore[index]


def test_each_instrument_has_a_zero_of_its_own() -> None:
    made: list[Act] = [
        ("zero", "zero:volts", {"text": "0.10"}),
        *volts(1, 2, text="2.10"),
        ("instrument", "instrument:volts", NEW),
        *volts(3, 4, text="2.00"),
    ]
    found = opened(*made, of=METER)
    assert found.analysis.values["s.V"].value == pytest.approx([2.0, 2.0, 2.0, 2.0])
    assert found.state.run.zeros == {}
    later = opened(*made, ("zero", "zero:volts", {"text": "0.03"}), of=METER)
    assert later.analysis.values["s.V"].value == pytest.approx([2.0, 2.0, 1.97, 1.97])
    assert later.state.run.zeros == {"volts": "0.03"}


def test_an_exchange_within_a_row_counts_each_trial_by_its_own() -> None:
    times = timed(range(1, 2), trials=2)
    both = opened(*START, *times[:2], CHANGE, times[2])
    (entry,) = [e for e in both.analysis.sheet.inputs if e.spec.key == "swings.t"]
    assert entry.gauge_at(1, 1).label == "stopwatch"  # type: ignore[union-attr]
    assert entry.gauge_at(1, 2).label == "photogate"  # type: ignore[union-attr]
    assert instrument_changes.sentences(both)[0].startswith("Time for N swings: row 1, trial 1 with the stopwatch")
    reaction = entry.by_gauge("reaction")
    assert reaction.shape == (1, entry.values.shape[1])
    assert reaction[0, 0] > 0 and reaction[0, 1] == 0


def test_a_run_document_with_an_exchange_begins_a_logbook_that_amounts_to_it() -> None:
    both = opened(*START, *timed(range(1, 4)), CHANGE, *timed(range(4, 7), decimals=4))
    again = assemble(PENDULUM, entries(*((k, s, dict(b)) for k, s, b in acts(both.state.run, PENDULUM))))
    assert again.run.taken_with == both.state.run.taken_with
    assert again.run.instruments == both.state.run.instruments
    program = catalogue.program_of(
        PENDULUM, again.run.instruments, again.run.options, again.run.accepted, again.run.headings, again.run.earlier()
    )
    assert np.allclose(analyse(program, again.run).values["swings.t"].u, own_u(both))
