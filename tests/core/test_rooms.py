"""A new fit model or kind of entry is one class: everything else finds it by its name."""

from collections.abc import Iterator, Mapping

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.errors import DefinitionError
from cavrel.core.fit.models import MODELS, Linear, offered
from cavrel.core.logbook import KINDS, EntryError, check_entry, kinds
from cavrel.core.quantity.dimension import Dimension
from tests.core.machine import curve


@pytest.fixture
def reciprocal() -> Iterator[None]:
    @offered
    class Reciprocal(Linear):
        """y = A/x."""

        key, title = "reciprocal", "reciprocal"
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
