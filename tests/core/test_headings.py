"""A run's own headings: other words, letters and units over the same numbers, and units that stay once something was typed under them."""

import math
from datetime import datetime, timezone

import pytest

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.analysis import analyse
from cavrel.core.definition.headings import Heading, headed
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry, assemble, check_entry
from cavrel.core.logbook import run as runs

PENDULUM = catalogue.experiments()["pendulum"]


def entries(*made: tuple[str, str, dict]) -> list[Entry]:
    now = datetime.now(timezone.utc)
    return [
        Entry(id=i, kind=k, slot=s, body=b, author="", made_at=now, saved_at=now) for i, (k, s, b) in enumerate(made, 1)
    ]


def sheet(*made: tuple[str, str, dict]):
    return assemble(PENDULUM, entries(*made))


def worked(state):
    run = state.run
    return analyse(catalogue.program_of(PENDULUM, run.instruments, run.options, run.accepted, run.headings), run)


READINGS = [("reading", "quantities.N.1", {"text": "20"})] + [
    ("reading", f"swings.{column}.{row}.1", {"text": text})
    for row, (length, time) in enumerate((("0.50", "28.4"), ("1.00", "40.1"), ("1.50", "49.2"), ("2.00", "56.7")), 1)
    for column, text in (("L", length), ("t", time))
]
IN_METRES = ("heading", "heading:swings.L", {"unit": "m", "label": "Length, pivot to bob", "symbol": "Z"})


def test_what_is_typed_is_meant_in_the_unit_over_it() -> None:
    plain = worked(
        sheet(*[(k, s, {"text": f"{100 * float(b['text']):.0f}"} if ".L." in s else b) for k, s, b in READINGS])
    )
    state = sheet(IN_METRES, *READINGS)
    here = worked(state)
    assert here.results["g"].value == pytest.approx(plain.results["g"].value, rel=1e-12)
    assert state.definition.series["swings"].columns["L"].label == "Length, pivot to bob"
    assert here.values["swings.L"].unit.text == "m"
    # By hand: 4π² over the slope of T² on L.
    x = [0.5, 1.0, 1.5, 2.0]
    y = [(t / 20) ** 2 for t in (28.4, 40.1, 49.2, 56.7)]
    mean = sum(x) / 4, sum(y) / 4
    slope = sum((a - mean[0]) * (b - mean[1]) for a, b in zip(x, y)) / sum((a - mean[0]) ** 2 for a in x)
    assert here.results["g"].value == pytest.approx(4 * math.pi**2 / slope, rel=3e-3)


def test_a_unit_stays_once_something_was_typed_under_it() -> None:
    late = sheet(*READINGS, IN_METRES)
    assert late.definition.series["swings"].columns["L"].unit == "cm"
    assert late.run.headings["swings.L"] == Heading(label="Length, pivot to bob", symbol="Z")
    undone = sheet(IN_METRES, *READINGS, ("heading", "heading:swings.L", {}))
    assert undone.definition.series["swings"].columns["L"].unit == "m"
    planned = sheet(("settings", "settings:swings.L", {"texts": ["50", "100"]}), IN_METRES)
    assert planned.definition.series["swings"].columns["L"].unit == "cm"
    # A heading changed while nothing stands under it yet counts as it stands at the first reading.
    twice = sheet(IN_METRES, ("heading", "heading:swings.L", {"unit": "mm"}), *READINGS)
    assert twice.definition.series["swings"].columns["L"].unit == "mm"


def test_the_run_document_gives_the_same_numbers_alone() -> None:
    state = sheet(IN_METRES, ("mark", "mark:swings.2", {"text": "landing"}), *READINGS)
    document = state.run.model_dump(mode="json", exclude_defaults=True) | {
        "format": "cavrel-run/1",
        "experiment": "pendulum",
    }
    again = runs.load(document)
    assert again.headings == state.run.headings
    assert again.marks == {"swings": [None, "landing"]}
    found = analyse(
        catalogue.program_of(PENDULUM, again.instruments, again.options, again.accepted, again.headings), again
    )
    assert found.results["g"].value == worked(state).results["g"].value


@pytest.mark.parametrize(
    ("slot", "body", "said"),
    [
        ("heading:swings.L", {"unit": "kg"}, "kg cannot stand for cm"),
        ("heading:swings.L", {"unit": "wibble"}, "wibble"),
        ("heading:swings.L", {"hidden": True}, "only a computed column"),
        ("heading:swings.L", {"reversed": True}, "only a column from samples"),
        ("heading:N", {"reversed": True}, "only a column from samples"),
        ("heading:swings", {"reversed": True}, "column of marks"),
        ("heading:swings.T", {"reversed": False}, "only a column from samples"),
        ("heading:swings.Q", {"label": "x"}, "no such column"),
        ("heading:nothing", {"label": "x"}, "nothing of this name"),
        ("heading:swings", {"unit": "m"}, "column of marks"),
        ("heading:N", {"unit": "1"}, ""),
        ("heading:swings.L", {"symbol": "a b"}, "symbol"),
        ("heading:swings.L", {"colour": "red"}, "colour"),
        ("heading:swings.L", {"label": "x" * 90}, "label"),
        ("swings.L", {"label": "x"}, "no slot for a heading"),
    ],
)
def test_headings_that_are_none(slot: str, body: dict, said: str) -> None:
    with pytest.raises(CavrelError) as refused:
        check_entry(PENDULUM, "heading", slot, body)
    assert said in str(refused.value)


@pytest.mark.parametrize(
    ("slot", "body"),
    [("mark:swings.L.2.1", {"text": "a"}), ("mark:rows.1", {"text": "a"}), ("mark:swings.1", {"text": 5})],
)
def test_marks_that_are_none(slot: str, body: dict) -> None:
    with pytest.raises(CavrelError):
        check_entry(PENDULUM, "mark", slot, body)


def test_a_temperature_keeps_its_zero() -> None:
    density = catalogue.experiments()["block-density"]
    with pytest.raises(CavrelError, match="cannot stand for"):
        headed(density, {"theta": Heading(unit="K")})
    assert headed(density, {"theta": Heading(label="Warmth")}).quantities["theta"].label == "Warmth"


def test_every_experiment_bears_headings_on_every_column() -> None:
    for base in catalogue.experiments().values():
        definition = definitions.choose(base, {})
        headings = {}
        for name, series in definition.series.items():
            headings[name] = Heading(label="mark")
            for column, body in series.columns.items():
                headings[f"{name}.{column}"] = Heading(
                    label=f"Column {column}", symbol="Z", hidden=not body.column_role.typed
                )
        run = runs.load(
            {
                "format": "cavrel-run/1",
                "experiment": definition.id,
                "headings": {k: h.model_dump() for k, h in headings.items()},
            }
        )
        analyse(catalogue.program_of(definition, None, None, None, run.headings), run)


@pytest.mark.parametrize(("said", "sign"), [(None, -1), (True, -1), (False, 1)])
def test_a_run_says_which_way_its_sensor_counts_over_the_experiment(said: bool | None, sign: int) -> None:
    """The far sensor of two carts counts the other way as the experiment has it; another apparatus may not."""
    made = catalogue.experiments()["collisions"]
    headings = {} if said is None else {"runs.x": Heading(reversed=said)}
    program = catalogue.program_of(made, options={"kind": "bounce"}, headings=headings)
    samples = {"times": [0.0, 0.1, 0.2, 0.3], "values": [-0.41, -0.40, -0.42, -0.41], "unit": "m/s"}
    document = {
        "format": "cavrel-run/1",
        "experiment": "collisions",
        "series": {"runs": {"m_1": ["200"], "m_2": ["300"]}},
    }
    document |= {"options": {"kind": "bounce"}, "traces": {"runs": {"x": [samples]}}}
    assert analyse(program, runs.load(document)).values["runs.x"].value[0] == pytest.approx(sign * -0.41)
