"""Words in number (one axis, two axes) and labels within a sentence."""

_IRREGULAR = {"axis": "axes", "radius": "radii", "focus": "foci", "foot": "feet", "half": "halves"}


def plural(word: str) -> str:
    """The plural of a noun, or of a phrase whose first noun carries it: ``number of loops``."""
    head, of, rest = word.partition(" of ")
    start, space, last = head.rpartition(" ")
    if last in _IRREGULAR:
        made = _IRREGULAR[last]
    elif last.endswith(("s", "x", "z", "ch", "sh")):
        made = f"{last}es"
    elif last.endswith("y") and last[-2:-1] not in "aeiou":
        made = f"{last[:-1]}ies"
    else:
        made = f"{last}s"
    return f"{start}{space}{made}{of}{rest}"


def counted(number: int, word: str, many: str = "") -> str:
    """``1 reading``, ``3 readings``, ``2 axes``."""
    return f"{number} {word if number == 1 else many or plural(word)}"


_NAMES = ("Rydberg", "Stefan", "Planck", "Boltzmann", "Young", "Helmholtz", "Earth")
"""Proper names that a label begins with and that no possessive gives away."""


def within(label: str) -> str:
    """A label as it stands within a sentence: ``length of the thread``, but ``Young's modulus``, ``LED``, ``G``."""
    first = label.partition(" ")[0]
    proper = (
        first.startswith(_NAMES)
        or (len(first) > 1 and not first[1].islower() and first[1].isalpha())
        or len(first) == 1
    )
    return label if proper and first not in ("A", "I") else label[:1].lower() + label[1:]
