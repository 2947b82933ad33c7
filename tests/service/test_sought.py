"""What may be wrong with a run is sought once for a sheet, and its absence breaks no page."""

from typing import Any

import pytest
from flask.testing import FlaskClient

from cavrel.service import run_view
from tests.web.http import entry, save, text
from tests.web.test_suspects import TIMES, typed


def test_a_text_of_the_report_seeks_nothing_anew(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    asked = []
    real = run_view.find

    def counted(*given: Any) -> Any:
        asked.append(given)
        return real(*given)

    monkeypatch.setattr(run_view, "find", counted)
    monkeypatch.setattr(run_view, "_sought", run_view._Sought(4))  # what other tests looked at is not remembered here
    run = typed(client, times=(*TIMES[:2], ("49.33", "43.97"), *TIMES[3:]))
    assert "Possible mistake" in text(client, f"/runs/{run}/report")
    assert len(asked) == 1
    save(client, run, entry("report", "report:aim", text="To find g."), page="report")
    assert "Possible mistake" in text(client, f"/runs/{run}/report")
    assert len(asked) == 1
    save(client, run, entry("reading", "swings.t.1.1", text="31.10"))
    assert "Possible mistake" in text(client, f"/runs/{run}/result")
    assert len(asked) == 2


def test_a_search_that_fails_costs_itself_alone(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: Any) -> Any:
        raise OverflowError("the search fails")

    monkeypatch.setattr(run_view, "find", broken)
    monkeypatch.setattr(run_view, "_sought", run_view._Sought(4))
    run = typed(client)
    for page in ("measure", "fit", "result", "report", "plan", "logbook"):
        assert client.get(f"/runs/{run}/{page}").status_code == 200, page
    assert client.get(f"/runs/{run}/result.json").json["slips"] == []
