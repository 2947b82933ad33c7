"""The margin: notes set next to what they are about."""

import json
from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace

from cavrel.core.findings.finding import Finding
from cavrel.core.logbook import effective, place_names
from cavrel.core.logbook.entry import text_in_force
from cavrel.core.logbook.run import trials
from cavrel.core.quantity.units import pretty
from cavrel.core.words import counted
from cavrel.present.texts import moment
from cavrel.service.run_view import RunView

_TONE = {"danger": "danger", "caution": "suspect", "note": "caution"}


@dataclass(frozen=True, slots=True)
class Act:
    """Something a note offers. ``act``: go, leave-out, take-back, stands, reason; ``slot`` and ``seen`` go with it."""

    label: str
    act: str
    slot: str
    seen: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Note:
    """What stands in the margin.

    ``tone``: danger, suspect, caution, good or own.
    ``title``: its first line.
    ``text``: the rest.
    ``at``: links it with a cell or point.
    ``acts``: what it offers.
    ``key``: tells it from all others of the page.
    """

    tone: str
    title: str
    text: str
    at: str = ""
    acts: tuple[Act, ...] = ()
    key: str = ""


def of_finding(finding: Finding) -> Note:
    """A remark with what can be done about it."""
    acts: list[Act] = []
    if finding.trial_out:
        series, column, row, trial = finding.trial_out
        again = "Time it again" if finding.code == "miscount" else "Read again"
        acts = [
            Act(again, "go", f"{series}.{column}.{row}.{trial}"),
            Act("Leave out…", "leave-out", f"{series}.{column}.{row}.{trial}"),
        ]
    elif finding.row_out:
        acts = [Act("Leave out…", "leave-out", f"{finding.row_out[0]}.{finding.row_out[1]}")]
    elif finding.rows_out:
        many = " ".join(f"{series}.{row}" for series, row in finding.rows_out)
        acts = [Act(f"Leave out the {counted(len(finding.rows_out), 'point')}…", "leave-out-all", many)]
    elif (slot := finding.slot) is not None and slot.name:
        acts = [Act("Go to it", "go", str(replace(slot, trial=slot.trial or 1)))]
    if finding.seen or finding.row_out:
        acts.append(Act("Keep", "stands", f"{finding.code}@{finding.at}", finding.seen))
    return Note(
        tone=_TONE[finding.level],
        title=finding.title,
        text=finding.say,
        at=finding.at,
        acts=tuple(acts),
        key=f"{finding.code}-{finding.at}",
    )


def where(opened: RunView, slot: str) -> str:
    """A place of this run in words."""
    return place_names.where(opened.definition, opened.state.trials, slot)


CONVERTED = "converted: "
"""How the reason of a correction begins that is one of many, made in one press and taken back in one."""
SHOWN_BEFORE = 4
"""Texts struck out that a note repeats, the latest ones; the logbook has them all."""


def corrections(opened: RunView) -> Iterable[Note]:
    """What was corrected and why; a correction without a reason asks for one."""
    together: dict[str, list[str]] = {}
    for slot, correction in opened.state.corrections.items():
        if correction.reason.startswith(CONVERTED):
            together.setdefault(correction.reason, []).append(slot)
    for reason, slots in together.items():
        last = opened.state.corrections[slots[-1]].entry
        yield Note(
            tone="own",
            title=f"{counted(len(slots), 'reading')} converted",
            text=f"“{reason}” {moment(last.made_at)}, {last.author}",
            at=slots[0],
            acts=(Act("Undo all", "undo-all", " ".join(slots)),),
            key=f"converted-{slots[0]}",
        )
    for slot, correction in opened.state.corrections.items():
        if correction.reason.startswith(CONVERTED):
            continue
        before = ", ".join(correction.texts[-SHOWN_BEFORE:])
        if len(correction.texts) > SHOWN_BEFORE:
            before = f"{before}, and {len(correction.texts) - SHOWN_BEFORE} more"
        who = f"{moment(correction.entry.made_at)}, {correction.entry.author}"
        if correction.reason:
            yield Note(
                tone="own",
                title=f"{where(opened, slot)} corrected",
                text=f"“{correction.reason}” {before} before. {who}",
                at=slot,
                acts=(),
                key=f"correction-{slot}",
            )
        else:
            yield Note(
                tone="caution",
                title=f"{where(opened, slot)} corrected: why?",
                text=f"was {before}, now {correction.text or 'empty'}. {who}",
                at=slot,
                acts=(Act("Give the reason…", "reason", slot),),
                key=f"correction-{slot}",
            )


def left_out(opened: RunView) -> Iterable[Note]:
    """What was left out and why, with the way back."""
    for slot, entry in opened.state.left_out.items():
        reason = effective(entry)[1].get("reason", "")
        said = f"“{reason}” {moment(entry.made_at)}, {entry.author}"
        yield Note(
            tone="own",
            title=f"{where(opened, slot)} left out",
            text=said,
            at=slot,
            acts=(Act("Restore", "take-back", slot),),
            key=f"out-{slot}",
        )


def clashes(opened: RunView) -> Iterable[Note]:
    """Two pages wrote over the same cell without knowing of each other."""
    for slot, lost in opened.state.clashes.items():
        text = f"{lost} was also entered here from another page that had not seen this one. Both are in the logbook."
        yield Note(
            tone="suspect",
            title=f"{where(opened, slot)} was entered twice",
            text=text,
            at=slot,
            acts=(Act("Go to it", "go", slot),),
            key=f"clash-{slot}",
        )


def late(opened: RunView) -> Iterable[Note]:
    """A reading that came after a newer one: both stand here until somebody says which holds."""
    for slot, entry in opened.state.late.items():
        now = opened.state.latest.get(slot)
        stands = text_in_force(now) if now is not None else ""
        came = str(entry.body.get("text", ""))
        if now is None or stands == came:
            continue
        what = came or "an empty cell"
        yield Note(
            tone="suspect",
            title=f"{where(opened, slot)}: {what} arrived late",
            text=f"It was read at {moment(entry.made_at)} by {entry.author} and arrived after {stands or 'the cell was cleared'}, of "
            f"{moment(now.made_at)}, which is kept for now. Both are in the logbook. Which one is right?",
            at=slot,
            acts=(
                Act(f"Keep {stands or 'it empty'}", "late-drop", slot, json.dumps({"text": came})),
                Act(f"Use {what}", "late-take", slot, json.dumps({"text": came, "was": stands, "over": now.id})),
            ),
            key=f"late-{slot}",
        )


def notes_of_bench(opened: RunView) -> Iterable[Note]:
    """The bench's own notes, newest first."""
    for entry in reversed(opened.state.notes):
        yield Note(
            tone="own",
            title=f"{entry.author} writes",
            text=f"“{effective(entry)[1].get('text', '')}” {moment(entry.made_at)}",
            key=f"note-{entry.id}",
        )


def answered(opened: RunView) -> Iterable[Note]:
    """Suspicions that a person let stand."""
    for finding in opened.answered:
        yield Note(
            tone="own",
            title=f"{finding.title}: kept",
            text=finding.say,
            at=finding.at,
            key=f"stands-{finding.code}-{finding.at}",
        )


def cautions(opened: RunView) -> Iterable[Note]:
    """Cautions, always in sight next to the table."""
    for i, caution in enumerate(opened.definition.cautions):
        read = opened.state.ticks.get(f"caution.{i}")
        if read is None:
            act = Act(label="We have read this", act="tick", slot=f"caution.{i}")
            yield Note(tone="caution", title="Caution", text=caution.say, acts=(act,), key=f"care-{i}")
        else:
            said = f"{caution.say} Read {moment(read.made_at)}, {read.author}."
            yield Note(tone="caution", title="Caution", text=said, key=f"care-{i}")


def suggested(opened: RunView) -> Iterable[Note]:
    """Values that the experiment suggests and nobody has taken: results wait for them, and one press takes them all."""
    typed = opened.state.run.quantities
    waiting = [
        (name, body)
        for name, body in opened.definition.quantities.items()
        if body.default is not None and body.formula is None and not any(t.strip() for t in trials(typed.get(name)))
    ]
    if not waiting:
        return
    said = "; ".join(f"{b.label} {b.default} {pretty(b.unit or '')}".strip() for _, b in waiting)
    texts = json.dumps({f"quantities.{name}.1": b.default for name, b in waiting}, ensure_ascii=False)
    one = len(waiting) == 1
    yield Note(
        tone="caution",
        title="A suggested value is not used yet"
        if one
        else f"{counted(len(waiting), 'suggested value')} not used yet",
        text=f"{said}. Results need {'it' if one else 'them'}: use {'it' if one else 'them'} or enter your own.",
        at=f"quantities.{waiting[0][0]}",
        acts=(Act("Use this value" if one else "Use these values", "take-suggested", "", texts),),
        key="suggested",
    )


_ORDER = {"danger": 0, "caution": 1, "note": 2}


def findings(opened: RunView, but: Collection[str] = (), least: str = "note") -> list[Finding]:
    """What nobody has answered, the gravest first; without the codes ``but``, and nothing below the level ``least``."""
    found = [f for f in opened.findings if f.code not in but and _ORDER[f.level] <= _ORDER[least]]
    return sorted(found, key=lambda f: _ORDER[f.level])


def measure_notes(opened: RunView) -> list[Note]:
    """The margin of Measure: cautions, then remarks about readings, rules, fits and results, then decisions and remarks."""
    about_fits = ("no-fit", "few-points", "predicted", "not-predicted", "too-good", "no-extremes", "runs")
    return [
        *cautions(opened),
        *clashes(opened),
        *late(opened),
        *suggested(opened),
        *map(of_finding, findings(opened, about_fits)),
        *left_out(opened),
        *corrections(opened),
        *notes_of_bench(opened),
        *answered(opened),
    ]
