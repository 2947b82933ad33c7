"""All results of a run at a glance: value, what it is compared with, and the word of the verdict."""

from dataclasses import dataclass

from cavrel.core.document import result_text
from cavrel.core.findings.verdict import CHECK_FIRST
from cavrel.service.run_view import RunView

_WORDS = {
    "agrees": "agrees",
    "wide": "too uncertain to tell",
    "doubtful": "doubtful",
    "disagrees": "does not agree",
    "side": "",
    "none": "",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Glance:
    """One result in a line.

    ``name``: of the result.
    ``label``: what it is called.
    ``text``: its value, empty while there is none.
    ``against``: what it is compared with.
    ``kind``: of verdict.
    ``word``: of verdict.
    ``waits``: what it waits for, empty where it has a value.
    """

    name: str
    label: str
    text: str
    against: str
    kind: str
    word: str
    waits: str


def overview(opened: RunView) -> list[Glance]:
    """Every result in the order of the definition."""
    found = []
    for name, result in opened.analysis.results.items():
        body, verdict = opened.definition.results[name], opened.verdict(result)
        against = ""
        if result.accepted is not None and not result.reason:
            against = opened.analysis.measured(result.accepted.value, result.accepted.u, result.unit).text()
        word = verdict.head.rstrip(".") if verdict.kind == "side" else _WORDS[verdict.kind]
        if verdict.head == CHECK_FIRST:
            word = CHECK_FIRST.rstrip(".").lower()
        text = "" if result.reason else result_text(opened.analysis, result)
        found.append(
            Glance(
                name=name,
                label=body.label,
                text=text,
                against=against,
                kind=verdict.kind,
                word="" if result.reason else word,
                waits=result.reason,
            )
        )
    return found
