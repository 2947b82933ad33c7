"""Live samples over HTTP: a sensor sends with a run's token, a page listens."""

from flask import Blueprint, abort, jsonify, request
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.present import traces
from cavrel.service import live
from cavrel.web.shared import opened_or_404, pool

pages = Blueprint("live", __name__)


@pages.post("/live/<token>")
def hear(token: str) -> ResponseReturnValue:
    """Samples from a sensor: kept when this answers 200 with ``listening``; 409 while no page listens, so that a sensor may wait."""
    try:
        heard = live.hear(pool(), token[:60], request.get_json(silent=True))
    except CavrelError as fault:
        return jsonify(error="Not understood", what=fault.what, place=fault.place), 422
    if heard is None:
        abort(404)
    return jsonify(state=heard.state, place=heard.place, kept=heard.kept), 200 if heard.state == "listening" else 409


@pages.get("/runs/<int:run>/live.json")
def where(run: int) -> ResponseReturnValue:
    """Where a sensor sends to, and which place listens now."""
    opened_or_404(run)
    token, take = live.token_of(pool(), run)
    return jsonify(send_to=f"/live/{token}", listening=take.place if take else None)


def _place(run: int, place: str) -> str:
    """The unit that a place reads samples in."""
    try:
        spec, _ = traces.row_of(opened_or_404(run), place)
    except KeyError:
        abort(404)
    return traces.sample_unit(spec)


@pages.get("/runs/<int:run>/traces/<place>/live.json")
def since(run: int, place: str) -> ResponseReturnValue:
    """The samples that came since block ``after`` of ``take``."""
    take, after = (request.args.get(name, "0") for name in ("take", "after"))
    if not all(text.isascii() and text.isdigit() and len(text) < 19 for text in (take, after)):
        abort(404)
    if take == "0":
        _place(run, place)  # a page that begins to ask; one that listens has been told so
    found = live.since(pool(), run, place[:80], int(take), int(after))
    return jsonify(take=found.take, listening=found.listening, last=found.last, times=found.times, values=found.values)


@pages.post("/runs/<int:run>/traces/<place>/live")
def listen(run: int, place: str) -> ResponseReturnValue:
    """Begin to listen for samples of a place, or stop: ``{"listen": true}``."""
    unit = _place(run, place)
    sent = request.get_json(silent=True)
    if not isinstance(sent, dict) or not isinstance(sent.get("listen"), bool):
        return jsonify(error="Not understood", what='the body must be {"listen": true} or false'), 422
    if sent["listen"]:
        return jsonify(take=live.listen(pool(), run, place, unit).id)
    live.stop(pool(), run)
    return jsonify(take=0)
