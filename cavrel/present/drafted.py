"""The written parts of a report: the bench's own words, else what Cavrel would write, which is never passed off as a person's own."""

from dataclasses import dataclass

from cavrel.core.logbook import in_force
from cavrel.core.logbook.kinds.reporting import SECTIONS
from cavrel.present import notes
from cavrel.service.opened import Opened


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part that is written.

    ``name``: of the part.
    ``title``: its heading.
    ``text``: the bench's own, else the draft; empty where there is neither.
    ``draft``: what Cavrel would write, empty where it knows nothing.
    ``own``: the bench wrote it or took the draft.
    ``asks``: what belongs here, where nothing stands.
    """

    name: str
    title: str
    text: str
    draft: str
    own: bool
    asks: str


_ASKS = {
    "aim": "What was to be found out, in a sentence.",
    "theory": "The law and what it foretells.",
    "procedure": "What was done, as commands, and where it departed from the plan.",
    "discussion": "What the numbers mean: how they compare, what the budget says, what the graph shows.",
    "errors": "What may have gone wrong, judged by its share of the uncertainty.",
    "precautions": "What was done to keep readings sound.",
    "conclusion": "The result in a sentence, and whether to believe it.",
}


def parts(opened: Opened) -> dict[str, Part]:
    """Every written part by its name, answers to the questions included."""
    drafts = _drafts(opened)
    said = opened.state.run.report
    found = {}
    for name, title in SECTIONS.items():
        found[name] = Part(
            name=name,
            title=title,
            text=said.get(name, drafts.get(name, "")),
            draft=drafts.get(name, ""),
            own=name in said,
            asks=_ASKS[name],
        )
    for i, question in enumerate(opened.definition.questions):
        name = f"answer.{i}"
        found[name] = Part(
            name=name,
            title=question.ask,
            text=said.get(name, ""),
            draft="",
            own=name in said,
            asks="Answer in a few sentences.",
        )
    return found


def _drafts(opened: Opened) -> dict[str, str]:
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


def _procedure(opened: Opened) -> str:
    lines = [f"{i}. {step.do}" for i, step in enumerate(opened.definition.steps, 1)]
    departed = deviations(opened)
    if departed:
        lines += ["", "Departures from the plan: " + "; ".join(departed) + "."]
    return "\n".join(lines)


def deviations(opened: Opened) -> list[str]:
    """What was left out or corrected, as clauses."""
    found = []
    for slot, entry in opened.state.left_out.items():
        reason = str(in_force(entry)[1].get("reason", ""))
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
    return found


def _errors(opened: Opened) -> str:
    lines = []
    result = opened.result
    if result is not None and not result.reason and result.budget:
        shares = [f"{s.source} ({100 * s.share:.0f} %)" for s in result.budget[:3] if s.share > 0.01]
        if shares:
            lines.append(f"Most of the uncertainty of {_label(opened, result.name)} comes from {_and(shares)}.")
    lines += [e.say for e in opened.definition.error_sources]
    return " ".join(lines)


def _discussion(opened: Opened) -> str:
    said = []
    for name, result in opened.analysis.results.items():
        if result.reason:
            continue
        verdict = opened.verdict(result)
        if verdict.kind != "none":
            said.append(f"{opened.definition.results[name].label}: {verdict.head} {verdict.text}")
    return "\n".join(said)


def _conclusion(opened: Opened) -> str:
    """What answers the aim, a sentence or two for each result that does."""
    answers = opened.definition.answers or opened.definition.led[:1]
    return " ".join(_concluded(opened, name) for name in answers if not opened.analysis.results[name].reason)


def _concluded(opened: Opened, name: str) -> str:
    result = opened.analysis.results[name]
    verdict = opened.verdict(result)
    value = result.measured(opened.analysis.rules.rounding).text()
    beside = "what this run says in another way" if verdict.measured else "the accepted value"
    ends = {
        "agrees": f"It agrees with {beside} within its uncertainty.",
        "wide": f"It is too uncertain to tell whether it agrees with {beside}.",
        "doubtful": "Whether it agrees remains in doubt.",
        "disagrees": "It does not agree with the value beside it; something systematic remains.",
    }
    return f"{opened.definition.results[name].label} comes out as {value}. {ends.get(verdict.kind, '')}".strip()


def _label(opened: Opened, name: str) -> str:
    label = opened.definition.results[name].label
    return label[0].lower() + label[1:]


def _and(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
