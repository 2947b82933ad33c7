"""The drawings of the apparatus and of the circuits, under the conventions chosen."""

from collections.abc import Mapping
from functools import lru_cache

from cavrel.catalogue import HERE


def drawing(experiment: str, options: Mapping[str, str], folder: str = "drawings") -> str | None:
    """An experiment's drawing as SVG.

    ``options``: the conventions chosen; a choice whose apparatus looks different has a file of its own, ``experiment.option-choice.svg``.
    ``folder``: ``drawings`` or ``circuits``.
    Returns None where nothing is drawn.
    """
    for option, choice in options.items():
        own = _read(f"{folder}/{experiment}.{option}-{choice}.svg")
        if own is not None:
            return own
    return _read(f"{folder}/{experiment}.svg")


@lru_cache(maxsize=256)
def _read(path: str) -> str | None:
    file = HERE / path
    return file.read_text(encoding="utf-8") if file.is_file() else None
