"""How a run departed from its plan: what was left out or corrected, with the reasons."""

from cavrel.core.logbook import effective
from cavrel.present import instrument_changes, notes
from cavrel.service.run_view import RunView


def deviations(opened: RunView) -> list[str]:
    """What was left out or corrected, as clauses."""
    found = []
    for slot, entry in opened.state.left_out.items():
        reason = str(effective(entry)[1].get("reason", ""))
        where = notes.where(opened, slot)
        found.append(
            f"{where[0].lower()}{where[1:]} left out ({reason})"
            if reason
            else f"{where[0].lower()}{where[1:]} left out"
        )
    for slot, correction in opened.state.corrections.items():
        where = notes.where(opened, slot)
        why = f" ({correction.reason})" if correction.reason else ", no reason given"
        found.append(f"{where[0].lower()}{where[1:]} corrected to {correction.text or 'nothing'}{why}")
    return [*found, *(f"{said[0].lower()}{said[1:]}" for said in instrument_changes.sentences(opened))]
