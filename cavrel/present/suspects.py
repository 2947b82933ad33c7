"""Possible mistakes as Result shows them: a card for each place, its causes, every result that would change, and what a person can do."""

import json
from dataclasses import dataclass, replace

from cavrel.core.logbook.run import trials
from cavrel.core.logbook.slots import MOST_TRIALS
from cavrel.core.slips import Suspect
from cavrel.core.slips.cards import place
from cavrel.core.slips.records import Change
from cavrel.core.words import counted
from cavrel.present import notes
from cavrel.present.notes import CONVERTED, Note
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Act:
    """What a card offers. ``act``: again, misread, convert, choose or stands; ``slot`` goes with it, ``writes`` is JSON: what to write or
    choose; ``hint``: what a field shows while it is empty."""

    label: str
    act: str
    slot: str
    writes: str = ""
    hint: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """One place.

    ``where``: the place in words.
    ``at``: as the logbook names it.
    ``say``: the likeliest cause and what speaks for it.
    ``causes``: (clause, percent of the place) of all causes, where there are several.
    ``look``: what to check.
    ``odds``: how likely, in words with the number.
    ``changes``: every result that would change.
    ``acts``: what it offers.
    """

    where: str
    at: str
    say: str
    causes: tuple[tuple[str, int], ...]
    look: str
    odds: str
    changes: tuple[Change, ...]
    acts: tuple[Act, ...]


@optional("possible mistakes", list)
def cards(opened: RunView) -> list[Card]:
    """The likeliest places, likeliest first."""
    return [_card(opened, suspect) for suspect in opened.suspected.suspects]


def doubt(opened: RunView) -> dict[str, object]:
    """What the page says besides the cards. ``none``: percent that it is none of them; ``between``: places, where none is likely enough to name."""
    found = opened.suspected
    return {
        "none": round(100 * found.other),
        "ask": found.ask,
        "unexplained": found.unexplained,
        "between": " and ".join(found.between),
    }


@optional("possible mistakes", list)
def as_notes(opened: RunView) -> list[Note]:
    """The same as remarks for a margin: what and where, with what would change."""
    return [
        Note(
            tone="suspect",
            title=f"Possible mistake: {card.where[0].lower()}{card.where[1:]}",
            text=f"{card.say.partition('. ')[0].rstrip('.')}: {card.odds}. See Result.",
            at="" if card.at.startswith(("systematic.", "instruments.", "options.")) else card.at,
            key=f"mistake-{card.at}",
        )
        for card in cards(opened)
    ]


def report_notes(opened: RunView) -> list[Note]:
    """The margin of a report: what is open, so that nobody hands it in, or marks it, unseen; then the bench's own notes."""
    open_ = [notes.of_finding(f) for f in notes.findings(opened, least="caution")]
    return [*as_notes(opened), *(replace(note, acts=()) for note in open_), *notes.notes_of_bench(opened)]


def _card(opened: RunView, suspect: Suspect) -> Card:
    physical = suspect.place == "physical"
    causes = tuple((say, round(100 * share)) for say, share in suspect.causes) if len(suspect.causes) > 1 else ()
    return Card(
        where="The apparatus" if physical else _capital(place(opened.analysis, suspect.at)),
        at=suspect.at,
        say=suspect.say,
        causes=causes,
        look=suspect.hypothesis.look,
        odds=odds(suspect.probability),
        changes=suspect.changes,
        acts=(
            *_acts(opened, suspect),
            Act(label="Dismiss", act="stands", slot=f"{suspect.hypothesis.code}@{suspect.at}"),
        ),
    )


def _acts(opened: RunView, suspect: Suspect) -> list[Act]:
    if suspect.place == "physical":
        return []
    reason = f"{suspect.hypothesis.say} ({odds(suspect.probability)})"[:300]
    if suspect.chooses:
        option = suspect.at.removeprefix("options.")
        return [
            Act(label="Use this convention", act="choose", slot=f"option:{option}", writes=json.dumps(suspect.chooses))
        ]
    if suspect.stretches:
        chosen = [
            {"slot": f"stretch:{key}.{row}" + (f".{trial}" if trial > 1 else ""), "begin": begin, "end": end}
            for key, row, trial, begin, end in suspect.stretches
        ]
        label = "Use this stretch" if len(chosen) == 1 else f"Use these {len(chosen)} stretches"
        return [
            Act(label=label, act="convert", slot=suspect.at, writes=json.dumps({"stretches": chosen, "reason": reason}))
        ]
    if suspect.writes:
        written = [_write(opened, key, row, trial, text) for key, row, trial, text in suspect.writes]
        whole = json.dumps(
            {"writes": written, "reason": f"{CONVERTED}{suspect.hypothesis.say}"[:300]}, ensure_ascii=False
        )
        return [Act(label=f"Convert {_all(len(written))}", act="convert", slot=suspect.at, writes=whole)]
    found = [*_again(opened, suspect)]
    if suspect.proposal is not None:
        key, row, trial, text = suspect.proposal
        held = json.dumps(_write(opened, key, row, trial, ""), ensure_ascii=False)
        hint = "" if suspect.family == "off" else text
        found.append(
            Act(
                label="I misread it: it was", act="misread", slot=_slot(opened, key, row, trial), writes=held, hint=hint
            )
        )
    return found


def _all(count: int) -> str:
    return "this reading" if count == 1 else f"all {counted(count, 'reading')}"


def _again(opened: RunView, suspect: Suspect) -> list[Act]:
    """Take the reading again: a new trial next to it where it has trials, else the cell itself."""
    parts = suspect.at.removeprefix("quantities.").split(".")
    quantity = suspect.at.startswith("quantities.")
    key = parts[0] if quantity else ".".join(parts[:2])
    spec = opened.program.input_of.get(key)
    if spec is None:
        return []
    row = 1 if quantity or len(parts) < 3 else int(parts[2])
    slot = f"quantities.{key}" if quantity else f"{key}.{row}"
    if spec.chosen or spec.exact or spec.whole:
        return [Act(label="Go to it", act="again", slot=f"{slot}.1")]
    run = opened.state.run
    cells = [run.quantities.get(key)] if quantity else run.series.get(spec.series or "", {}).get(spec.name, [])
    typed = trials(cells[row - 1]) if row <= len(cells) else []
    free = next((i for i, text in enumerate(typed, 1) if not text.strip()), len(typed) + 1)
    if free > MOST_TRIALS:
        return [Act(label="Go to it", act="again", slot=f"{slot}.1")]
    ruled = opened.state.trials.get(key, 1)
    more = json.dumps({"slot": f"trials:{key}", "count": free}) if free > ruled else ""
    return [Act(label="Read again", act="again", slot=f"{slot}.{free}", writes=more)]


def odds(probability: float) -> str:
    """A probability in words, with its number."""
    percent = f"{5 * round(20 * probability)} %"
    if probability >= 0.9:
        return f"very likely ({percent})"
    return f"probably (about {percent})" if probability >= 0.6 else f"perhaps (about {percent})"


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _slot(opened: RunView, key: str, row: int, trial: int) -> str:
    spec = opened.program.input_of[key]
    return f"{key}.{row}.{trial}" if spec.series is not None else f"quantities.{key}.{trial}"


def _write(opened: RunView, key: str, row: int, trial: int, text: str) -> dict[str, object]:
    """One correction: where, what, instead of what, and over which entry."""
    slot = _slot(opened, key, row, trial)
    latest = opened.state.latest.get(slot)
    entry = next(e for e in opened.analysis.sheet.inputs if e.spec.key == key)
    return {"slot": slot, "text": text, "was": entry.text(row, trial), "over": latest.id if latest else None}
