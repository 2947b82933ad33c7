"""A new fit model, kind of entry, column role, house rule or finding stands in one place: everything else asks that."""

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np
import pytest
import uncertainties

from cavrel import catalogue
from cavrel.core.definition.readings import ROLES, Role
from cavrel.core.definition.rules import RULES, HouseRules, Rule
from cavrel.core.document.notebook import notebook
from cavrel.core.errors import DefinitionError
from cavrel.core.findings.finding import Finding
from cavrel.core.fit.models import MODELS, Linear, offered
from cavrel.core.logbook import KINDS, EntryError, check_entry, kinds
from cavrel.core.quantity.dimension import Dimension
from cavrel.present import house
from cavrel.present.notes import of_finding
from tests.core.machine import curve
from tests.core.test_notebook import run


@pytest.fixture
def reciprocal() -> Iterator[None]:
    @offered
    class Reciprocal(Linear):
        """y = A/x."""

        key, title = "reciprocal", "reciprocal"
        recipe = ("p[0] / x", "[p[0]]")
        names = ("A",)

        def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
            return {"A": y * x}

        def predict(self, theta, x):
            return theta[:, :1] / x

        def jacobian(self, theta, x):
            return np.broadcast_to((1 / x)[:, :, None], (*np.broadcast_shapes(x.shape, (len(theta), x.shape[1])), 1))

    yield
    del MODELS["reciprocal"]


def test_a_fit_model_is_one_class(reciprocal: None) -> None:
    found = (
        curve("reciprocal", ["1", "2", "4", "5"], ["20.1", "9.9", "5.1", "4.0"], {"weights": "equal"})
        .fits["f"]
        .parameters["A"]
    )
    weights = 1 / np.array([1.0, 2.0, 4.0, 5.0])
    assert found.value == pytest.approx(float(weights @ [20.1, 9.9, 5.1, 4.0] / (weights @ weights)), rel=1e-9)


def test_a_model_that_is_none_is_named_with_those_that_are() -> None:
    with pytest.raises(DefinitionError, match=r"is no model; it is one of .*line.*proportional"):
        curve("reciprocal", ["1"], ["2"])


def test_a_kind_of_entry_is_one_class(monkeypatch: pytest.MonkeyPatch) -> None:
    class Weather(kinds.Kind):
        """What the barometer said."""

        name = "weather"

        def check(self, definition, slot, body) -> None:
            if not slot.startswith("weather:"):
                raise EntryError("slot", "is no slot for the weather")

    pendulum = catalogue.experiments()["pendulum"]
    with pytest.raises(EntryError, match="unknown kind"):
        check_entry(pendulum, "weather", "weather:1", {})
    monkeypatch.setitem(KINDS, "weather", Weather())
    check_entry(pendulum, "weather", "weather:1", {})
    with pytest.raises(EntryError, match="no slot for the weather"):
        check_entry(pendulum, "weather", "swings.t.1.1", {})


def test_a_fit_model_comes_with_the_notebook(reciprocal: None) -> None:
    analysis = curve("reciprocal", ["1", "2", "4", "5"], ["20.1", "9.9", "5.1", "4.0"], {"weights": "equal"})
    names = run(notebook(analysis))
    found = analysis.fits["f"].parameters["A"].value
    assert uncertainties.nominal_value(names["fits"]["f"]["A"]) == pytest.approx(found, rel=1e-9)
    assert "taken over" not in str(notebook(analysis))


def test_a_column_role_is_one_line(monkeypatch: pytest.MonkeyPatch) -> None:
    spec = catalogue.program_of(catalogue.experiments()["pendulum"]).input_of["swings.t"]
    drawn = replace(spec, role="drawn")
    assert not drawn.chosen
    monkeypatch.setitem(ROLES, "drawn", Role(typed=True, chosen=True))
    assert drawn.chosen
    assert ROLES["drawn"].shown_as == "set"
    assert [ROLES[role].shown_as for role in ("set", "measured", "derived")] == ["set", "measured", "derived"]


def test_a_house_rule_without_an_example_is_listed_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    rules = {**RULES, "pool": Rule(subject="Comparison", title="A new rule", choices={"auto": "so", "always": "or so"})}
    monkeypatch.setattr(house, "RULES", rules)
    house._shown.cache_clear()
    found = {rule.name: rule for rule in house.shown(HouseRules())}
    house._shown.cache_clear()
    assert (found["pool"].now, found["pool"].example) == ("so", "")
    assert {choice.makes for choice in found["pool"].choices} == {""}
    assert found["repeats"].choices[0].makes


def test_a_finding_about_a_reading_leads_to_it_whatever_its_kind() -> None:
    def acts(at: str) -> list[tuple[str, str]]:
        finding = Finding(code="damp", level="note", at=at, title="Damp", say="Damp.")
        return [(act.act, act.slot) for act in of_finding(finding).acts]

    assert acts("swings.t.4.2") == [("go", "swings.t.4.2")]
    assert acts("swings.t.4") == [("go", "swings.t.4.1")]
    assert acts("quantities.N") == [("go", "quantities.N.1")]
    assert acts("swings.4") == acts("fits.line") == acts("run") == []
