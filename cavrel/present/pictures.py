"""Pictures of forces to scale, as a run's readings have them."""

from cavrel.graph import forces
from cavrel.service.run_view import RunView


def force_pictures(opened: RunView) -> list[tuple[str, str]]:
    """(caption, drawing) of every force picture that has its numbers."""
    found = []
    for name, picture in opened.analysis.pictures.items():
        label = opened.definition.pictures[name].label
        caption = f"{label}: row {picture.row}" if picture.row else label
        found.append((caption, forces.force_picture(picture.pivot, picture.forces, caption)))
    return found
