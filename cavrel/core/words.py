"""Words in number: one axis, two axes."""

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
