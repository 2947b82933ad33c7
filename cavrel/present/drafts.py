"""The written parts of a report: the bench's own words, else what Cavrel would write, which is never passed off as a person's own."""

from dataclasses import dataclass

from cavrel.core.logbook.kinds.reporting import SECTIONS
from cavrel.core.words import within
from cavrel.present import departures, fields, outdated_numbers
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part that is written.

    ``name``: of the part.
    ``title``: its heading.
    ``text``: the bench's own, else the draft, its fields filled in; empty where there is neither.
    ``source``: the same with its fields, as it is edited.
    ``draft``: what Cavrel would write, with fields; empty where it knows nothing.
    ``own``: the bench wrote it or took the draft.
    ``pieces``: ``text`` in order, each with what is to be said of it: that it was a result once and is none any more.
    ``asks``: what belongs here, where nothing stands.
    """

    name: str
    title: str
    text: str
    source: str
    draft: str
    own: bool
    asks: str
    pieces: tuple[tuple[str, str], ...] = ()


_ASKS = {
    "aim": "What was to be determined, in one sentence.",
    "theory": "The law and what it predicts.",
    "procedure": "What was done, step by step, and departures from the plan.",
    "discussion": "What the numbers mean: comparison, uncertainty budget, graph.",
    "errors": "What may have gone wrong, and how much it contributes to the uncertainty.",
    "precautions": "What was done to keep the readings reliable.",
    "conclusion": "The result in one sentence, and whether it can be trusted.",
}


def parts(opened: RunView) -> dict[str, Part]:
    """Every written part by its name, answers to the questions included."""
    drafts = _drafts(opened)
    said = opened.state.run.report
    found = {}
    for name, title in SECTIONS.items():
        found[name] = _part(opened, name, title, said.get(name), drafts.get(name, ""), _ASKS[name])
    for i, question in enumerate(opened.definition.questions):
        name = f"answer.{i}"
        found[name] = _part(opened, name, question.ask, said.get(name), "", "Answer in a few sentences.")
    return found


def _part(opened: RunView, name: str, title: str, own: str | None, draft: str, asks: str) -> Part:
    source = draft if own is None else own
    # Only what somebody typed can have stayed outdated; a field follows, and so does a draft.
    outdated = outdated_numbers.moved(opened, name, source) if own is not None else []
    pieces, at = list[tuple[str, str]](), 0
    for one in outdated:
        pieces += [(fields.filled(opened, source[at : one.start]), ""), (one.number, f"{one.label}: {one.now} now")]
        at = one.end
    pieces.append((fields.filled(opened, source[at:]), ""))
    text = "".join(piece for piece, _ in pieces)
    return Part(
        name=name,
        title=title,
        text=text,
        source=source,
        draft=draft,
        own=own is not None,
        asks=asks,
        pieces=tuple(piece for piece in pieces if piece[0]),
    )


def _drafts(opened: RunView) -> dict[str, str]:
    """What Cavrel would write: from the definition, the logbook and the analysis, and never more than they know."""
    definition = opened.definition
    return {
        "aim": definition.aim,
        "theory": definition.theory,
        "procedure": _procedure(opened),
        "errors": _errors(opened),
        "precautions": " ".join(p.say for p in definition.precautions),
        "discussion": _discussion(opened),
        "conclusion": _conclusion(opened),
    }


def _procedure(opened: RunView) -> str:
    lines = [f"{i}. {step.do}" for i, step in enumerate(opened.definition.steps, 1)]
    if departures.deviations(opened):
        lines += ["", f"Departures from the plan: {{{fields.DEPARTURES}}}."]
    return "\n".join(lines)


def _errors(opened: RunView) -> str:
    lines = []
    result = opened.result
    if result is not None and not result.reason and result.budget:
        lines.append(f"Most of the uncertainty of {_label(opened, result.name)} comes from {{{result.name}.sources}}.")
    lines += [e.say for e in opened.definition.error_sources]
    return " ".join(lines)


def _discussion(opened: RunView) -> str:
    return "\n".join(
        f"{opened.definition.results[name].label}: {{{name}.verdict}}"
        for name, result in opened.analysis.results.items()
        if not result.reason and opened.verdict(result).kind != "none"
    )


def _conclusion(opened: RunView) -> str:
    """What answers the aim, a sentence or two for each result that does."""
    said = []
    for name in opened.definition.answers or opened.definition.led[:1]:
        result = opened.analysis.results[name]
        if not result.reason:
            ends = f" {{{name}.agrees}}" if result.compared is not None else ""
            said.append(f"{opened.definition.results[name].label} is {{{name}}}.{ends}")
    return " ".join(said)


def _label(opened: RunView, name: str) -> str:
    label = opened.definition.results[name].label
    return within(label)
