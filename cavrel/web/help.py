"""Help: the pages of docs/help, in the application's own look; pictures are those of the README."""

import re
from functools import lru_cache
from pathlib import Path

from flask import Blueprint, abort, jsonify, render_template, send_from_directory
from flask.typing import ResponseReturnValue
from markdown_it import MarkdownIt
from markupsafe import Markup

from cavrel.present.keys import keys

pages = Blueprint("help", __name__)

DOCS = Path(__file__).resolve().parent.parent.parent / "docs"
PAGES = {
    "tour": ("Start an experiment", "help/tour.md"),
    "bench": ("At the bench, write up", "help/bench.md"),
    "instructor": ("Set up the laboratory", "help/instructor.md"),
    "author": ("Write an experiment", "help/author.md"),
    "operator": ("Run the server", "help/operator.md"),
    "formats": ("The three documents", "formats.md"),
    "sensors": ("Sensors", "sensors.md"),
}
"""By the name in their address: title, and file under ``docs``."""


@pages.get("/help")
def contents() -> ResponseReturnValue:
    return page("tour")


@pages.get("/help/<name>")
def page(name: str) -> ResponseReturnValue:
    if name not in PAGES or not (DOCS / PAGES[name][1]).is_file():
        abort(404)
    return render_template(
        "help/page.html",
        name=name,
        title=PAGES[name][0],
        pages=PAGES,
        body=Markup(_rendered(name)),
        keys=keys() if name == "author" else (),
    )


@pages.get("/help/<name>.json")
def as_json(name: str) -> ResponseReturnValue:
    """A page as it was written, in Markdown."""
    if name not in PAGES or not (DOCS / PAGES[name][1]).is_file():
        abort(404)
    return jsonify(name=name, title=PAGES[name][0], markdown=(DOCS / PAGES[name][1]).read_text(encoding="utf-8"))


@pages.get("/help/pictures/<name>")
def picture(name: str) -> ResponseReturnValue:
    """A picture of a view."""
    return send_from_directory(DOCS / "screenshots", name, max_age=3600)


@lru_cache(maxsize=16)
def _rendered(name: str) -> str:
    """A page's HTML. Our own files, so that what they hold is safe; raw HTML in them is shown as text all the same."""
    text = (DOCS / PAGES[name][1]).read_text(encoding="utf-8")
    made = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    made = made.replace("<table>", '<div class="table-wrap" tabindex="0"><table class="report-table">').replace(
        "</table>", "</table></div>"
    )
    made = made.replace("<pre>", '<pre tabindex="0">')
    # Links between the files of docs are links between these pages.
    made = re.sub(r'href="(?:\.\./)?(?:help/)?(' + "|".join(PAGES) + r')\.md(#[^"]*)?"', r'href="/help/\1\2"', made)
    made = re.sub(r'href="schemas/[^"]*"', 'href="/help/formats"', made)
    return re.sub(r'src="(?:\.\./)?(?:pictures|screenshots)/([^"]+)"', r'src="/help/pictures/\1" loading="lazy"', made)
