"""Definitions held against their own simulation and against their law: what is wrong is said, with the factor that is missing."""

import copy

import pytest

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.analysis import analyse
from cavrel.core.errors import DefinitionError
from cavrel.core.logbook import run as runs

HEAT = {
    "format": "cavrel-experiment/1",
    "id": "hot-block",
    "title": "A block that is warmed",
    "field": "thermal",
    "aim": "Find the specific heat of a block.",
    "law": "E = m*c*dT",
    "instruments": {
        "joule": {"label": "joule meter", "least_count": "1 J"},
        "probe": {"label": "probe", "least_count": "0.1 K"},
    },
    "quantities": {"m": {"label": "Mass", "unit": "g", "default": "850", "exact": True}},
    "series": {
        "warm": {
            "label": "Warming",
            "rows": 6,
            "columns": {
                "E": {"label": "Energy", "unit": "J", "role": "set", "instrument": "joule"},
                "dT": {"label": "Rise", "unit": "K", "role": "measured", "instrument": "probe"},
            },
        }
    },
    "fits": {"line": {"label": "the line", "series": "warm", "x": "dT", "y": "E", "model": "line"}},
    "results": {"c": {"label": "Specific heat", "formula": "line.slope/m", "unit": "J/(kg K)"}},
    "suggest": [{"for": "warm.E", "formula": "linspace(1000[J], 6000[J], 6)"}],
    "simulate": {"truth": {"m": "850[g]", "c": "2400[J/(kg K)]"}, "read": {"warm.dT": "E/(m*c)"}},
}


def rehearsed(**changes: object) -> None:
    document = copy.deepcopy(HEAT)
    for path, value in changes.items():
        *parents, last = path.split("__")
        part = document
        for name in parents:
            part = part[name]
        part[last] = value
    definition = definitions.load(document, catalogue.instruments())
    catalogue.validate(definition)
    catalogue.rehearse(definition)


def test_a_definition_that_gives_its_truth_back_passes() -> None:
    rehearsed()


@pytest.mark.parametrize(
    ("formula", "factor"), [("line.slope*0.525/m", "0.53"), ("2*line.slope/m", "2.0"), ("line.slope/m/1000", "0.0010")]
)
def test_a_result_that_misses_a_factor_is_told_which(formula: str, factor: str) -> None:
    with pytest.raises(
        DefinitionError, match=f"do not give its own true value back: it is about {factor} times that"
    ) as fault:
        rehearsed(results__c__formula=formula, law=None)
    assert fault.value.place == "results.c.formula"


@pytest.mark.parametrize(
    ("changes", "place", "what"),
    [
        ({"simulate__read": {"warm.dT": "E/c"}}, "simulate.read.warm.dT", "where K is read"),
        ({"simulate__read": {"warm.dT": "E/(m*c) + 2[s]"}}, "simulate.read.warm.dT", "cannot add"),
        ({"simulate__truth": {"m": "850[g]", "c": "2400[J]"}}, "simulate.truth.c", "where m\\^2/\\(s\\^2 K\\) is read"),
        ({"simulate__truth": {"m": "850[g]", "c": "2400[J/(kg K)]", "q": "m + c"}}, "simulate.truth.q", "cannot add"),
        (
            {"simulate__faults": {"late": {"label": "late", "read": {"warm.dT": "E/m"}}}},
            "simulate.faults.late.read.warm.dT",
            "where K is read",
        ),
        ({"simulate__read": {"warm.dT": "E/(m*k)"}}, "simulate.read.warm.dT", "'k' has no true value"),
    ],
)
def test_a_stand_in_whose_units_clash_is_told_where(changes: dict[str, object], place: str, what: str) -> None:
    with pytest.raises(DefinitionError, match=what) as fault:
        rehearsed(**changes)
    assert fault.value.place == place


def swung(**changes: object) -> None:
    """A pendulum of which ten swings are timed and no period is a column."""
    document = {
        "format": "cavrel-experiment/1",
        "id": "ten-swings",
        "title": "Ten swings",
        "field": "mechanics",
        "aim": "Find g.",
        "law": "T = 2*pi*sqrt(L/g)",
        "quantities": {"N": {"label": "Swings", "default": "10", "exact": True}},
        "series": {
            "swings": {
                "label": "Swings",
                "rows": 5,
                "columns": {
                    "L": {"label": "Length", "unit": "m", "role": "set"},
                    "t": {"label": "Time", "unit": "s", "role": "measured"},
                    "T": {"label": "Period", "unit": "s", "role": "derived", "formula": "t/N"},
                },
            }
        },
        "fits": {"line": {"label": "the line", "series": "swings", "x": "L", "y": "t^2", "model": "line"}},
        "results": {"g": {"label": "g", "formula": "4*pi^2*N^2/line.slope", "unit": "m/s^2"}},
        **changes,
    }
    definition = definitions.load(document, catalogue.instruments())
    catalogue.validate(definition)
    catalogue.rehearse(definition)


def test_a_law_of_a_derived_column_reaches_what_was_read() -> None:
    swung()
    with pytest.raises(DefinitionError, match="readings that obey the law do not give g"):
        swung(results={"g": {"label": "g", "formula": "4*pi^2/line.slope", "unit": "m/s^2"}})


def test_a_law_speaks_of_what_there_is() -> None:
    with pytest.raises(DefinitionError, match="speaks of 'P', which is not a column, quantity or result") as fault:
        swung(law="P = 2*pi*sqrt(L/g)")
    assert fault.value.place == "law"
    with pytest.raises(DefinitionError, match="speaks of a, b, k, which are not columns"):
        swung(law="a*L = b*k")


def test_every_experiment_that_ships_rehearses_well() -> None:
    for definition in catalogue.experiments().values():
        catalogue.rehearse(definition)


def test_what_is_not_read_is_what_the_definition_says_and_exact() -> None:
    """The angle of a swing: zero where nobody read it, and a correction where somebody did."""
    definition = catalogue.experiments()["pendulum"]
    document = {
        "format": "cavrel-run/1",
        "experiment": "pendulum",
        "series": {"swings": {"L": ["50", "100", "150"], "t": [["28.4"], ["40.1"], ["49.2"]]}},
    }
    program = catalogue.program_of(definition)
    without = analyse(program, runs.load(document))
    read = analyse(program, runs.load({**document, "quantities": {"theta": "20"}}))
    assert not any(entry.readings for entry in without.sheet.inputs if entry.spec.name == "theta")
    angle = 0.3490658504
    assert read.values["swings.T"].value[0] == pytest.approx(
        28.4 / 20 / (1 + angle**2 / 16 + 11 * angle**4 / 3072), rel=1e-9
    )
    assert without.values["swings.T"].value[0] == pytest.approx(28.4 / 20, rel=1e-12)
    left_out = {
        **document,
        "quantities": {"theta": "20"},
        "excluded": {"quantities": {"theta.1": "read in the mirror"}},
    }
    assert analyse(program, runs.load(left_out)).values["swings.T"].value[0] == pytest.approx(28.4 / 20, rel=1e-12)
    assert without.results["g"].u < read.results["g"].u  # an angle that is read is read with an uncertainty
    for wrong in ({"default": "3", "unread": "0"}, {"optional": False, "unread": "0"}, {"unread": "wide"}):
        changed = definition.document()
        changed["quantities"]["theta"] |= wrong
        with pytest.raises(DefinitionError, match="replaces it where it is not read|is not a number"):
            catalogue.program_of(definitions.load(changed, catalogue.instruments()))


def test_a_choice_that_takes_over_a_correction_says_beside_which() -> None:
    document = catalogue.experiments()["newton-second-law"].document()
    choice = document["options"]["friction"]["choices"]["carried"]
    for over in ("carried", "nothing"):
        choice["over"] = over
        with pytest.raises(DefinitionError, match="with 'over' another choice"):
            definitions.load(document, catalogue.instruments())
    choice["over"] = None  # as definitions had it before there was such a word
    assert definitions.load(document, catalogue.instruments()).options["friction"].choices["carried"].over is None


def test_a_run_opens_whatever_its_law_is_called() -> None:
    """Runs that left with another version's definition come back: only what is being written is asked for its names."""
    document = catalogue.experiments()["density-buoyancy"].document()
    document["law"] = "m = rho*V"
    definition = definitions.load(document, catalogue.instruments())
    catalogue.validate(definition)
    with pytest.raises(DefinitionError, match="speaks of 'm'"):
        catalogue.rehearse(definition)
