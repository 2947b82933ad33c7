"""The logbook: every entry ever made, and the sheet that follows from the latest entry of each slot.

Slots: ``swings.t.4.2`` a reading, ``quantities.N.1`` a quantity's, ``out:swings.4`` and ``out:swings.t.4.2`` what is left out,
``rows:swings`` and ``trials:swings.t`` how many are ruled, ``option:landing`` a convention chosen, ``trace:force.a.3`` the samples of a
row and ``stretch:force.a.3`` the part of them that counts, ``stands:CODE@AT`` a remark answered, ``note:KEY``, ``timer:KEY``,
``run:title``, ``run:bench`` and ``run:away`` what the run is called, whose it is, and whether the list of runs shows it.
"""

from cavrel.core.logbook.book import EMPTY, Book, Correction, as_written, came_late
from cavrel.core.logbook.document_parts import slots_of
from cavrel.core.logbook.entry import LONGEST, LONGEST_TEXT, Entry, EntryError, effective, undo_of
from cavrel.core.logbook.kinds import KINDS, check_entry
from cavrel.core.logbook.place_names import where
from cavrel.core.logbook.sheet import SheetState, assemble, sheet_of
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot

__all__ = [
    "EMPTY",
    "KINDS",
    "LONGEST",
    "LONGEST_TEXT",
    "MOST_ROWS",
    "MOST_TRIALS",
    "Book",
    "Correction",
    "Entry",
    "EntryError",
    "SheetState",
    "Slot",
    "as_written",
    "assemble",
    "came_late",
    "check_entry",
    "effective",
    "sheet_of",
    "slots_of",
    "undo_of",
    "where",
]
