"""A report as PDF: the same template, set by WeasyPrint for paper, tagged, with its fonts in it and nothing fetched."""

import base64
import logging
import re
from collections.abc import Mapping
from functools import cache, lru_cache
from html import unescape
from io import BytesIO
from pathlib import Path
from urllib.parse import unquote, urlsplit

import ziamath
from flask import render_template
from fontTools.ttLib import woff2
from weasyprint import CSS, HTML
from weasyprint.text.fonts import FontConfiguration
from weasyprint.urls import URLFetcher, URLFetcherResponse

from cavrel.present import decimals
from cavrel.web import assets
from cavrel.web.setting import PAPERS
from cavrel.web.spoken import spoken

logging.getLogger("weasyprint").setLevel(logging.CRITICAL)  # it would write whole pictures into the log
_SVG = re.compile(r"<svg\b|</svg>")
_MATH = re.compile(r"<math\b.*?</math>", re.S)
_LABEL = re.compile(r'aria-label="([^"]*)"')
_TEXT = re.compile(r">[^<]*[′″µ‰][^<]*<")
_PRIMES = re.compile("([′″µ‰]+)")
"""Signs that are no letters of ours, and for which what sets the text does not look elsewhere by itself."""
_LETTERS = re.compile(r"<text\b.*?</text>", re.S)
_IN_DRAWINGS = r'<tspan font-family="STIX Math">\1</tspan>'
_BOX = re.compile(r'viewBox="(-?[\d.]+) (-?[\d.]+) ([\d.]+) ([\d.]+)"')
_VARIABLE = re.compile(r"var\((--[a-z-]+)(?:,[^()]*(?:\([^()]*\))?)?\)")
_HERE = "http://cavrel.invalid/static/"
"""A name that nobody can have; only addresses that begin with it are answered, from the folder of what ships."""
_EX = 14.0
"""CSS pixels of the letters that mathematics is set next to."""


def alone(body: str, title: str, author: str) -> str:
    """A report's HTML as one file that needs no other: its style within, its drawings and formulas as pictures."""
    css = re.sub(r"@page \{.*?\}\s*\}|string-set:[^;]*;", "", _resolved(assets.text("css/paper.css")), flags=re.S)
    style = f"{css}\nbody {{ max-width: 46em; margin: 2em auto; padding: 0 1em; }}"
    return render_template(
        "report/paper.html", body=_pictures(decimals.page(body)), title=title, author=author, style=style
    )


class _Shipped(URLFetcher):  # type: ignore[misc]
    """What ships with the application, and what stands in the page itself; nothing is ever fetched."""

    def fetch(self, url: str, headers: Mapping[str, str] | None = None) -> URLFetcherResponse:
        """Raises ValueError for anything else."""
        parts = urlsplit(url)
        if parts.scheme == "data":
            head, content = url.split(",", 1)
            kind = head.removeprefix("data:").partition(";")[0]
            body = base64.b64decode(content) if ";base64" in head else unquote(content).encode()
            return URLFetcherResponse(url, body, {"Content-Type": kind})
        if url.startswith(_HERE):
            path = (assets.STATIC / unquote(parts.path.removeprefix("/static/"))).resolve()
            if path.is_relative_to(assets.STATIC) and path.is_file():
                return URLFetcherResponse(url, _unpacked(path))
        raise ValueError(f"'{url[:80]}' is not part of the application")


@lru_cache(64)
def _unpacked(path: Path) -> bytes:
    """A file that ships; a font without its compression, which to undo for every report takes longer than to set its pages."""
    body = path.read_bytes()
    if path.suffix != ".woff2":
        return body
    plain = BytesIO()
    woff2.decompress(BytesIO(body), plain)
    return plain.getvalue()


def pdf(body: str, title: str, author: str, paper: str = "a4") -> bytes:
    """A PDF (PDF/UA-1) of a report's HTML. ``paper``: ``a4`` or ``letter``."""
    page = render_template("report/paper.html", body=_pictures(decimals.page(body)), title=title, author=author)
    fonts, base, fetcher = FontConfiguration(), _HERE + "css/", _Shipped()
    sheets = [
        _faces(),
        _resolved(f"@page {{ size: {PAPERS.get(paper, 'A4')}; }}\n" + assets.text("css/paper.css")),
    ]
    styles = [CSS(string=sheet, base_url=base, url_fetcher=fetcher, font_config=fonts) for sheet in sheets]
    document = HTML(string=page, base_url=base, url_fetcher=fetcher)
    return bytes(document.write_pdf(stylesheets=styles, font_config=fonts, pdf_variant="pdf/ua-1"))


def _pictures(body: str) -> str:
    """Drawings and formulas as pictures with words for who cannot see them: a page of paper has no other mathematics."""
    pieces, depth, begin, done = [], 0, 0, 0
    for found in _SVG.finditer(body):  # one drawing may hold another, which frames a part of it
        opens = found[0] != "</svg>"
        if opens and depth == 0:
            begin = found.start()
        depth += 1 if opens else -1
        if depth == 0:
            pieces += [body[done:begin], _picture(body[begin : found.end()])]
            done = found.end()
    made = _MATH.sub(lambda found: _formula(found[0]), "".join([*pieces, body[done:]]))
    return _TEXT.sub(lambda found: _PRIMES.sub(r'<span class="prime">\1</span>', found[0]), made)


def standing(svg: str) -> str:
    """A drawing of a page as a file of its own, with its colours and letters' names in it."""
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{_styled(decimals.page(svg))}\n'


def _picture(svg: str) -> str:
    said = _LABEL.search(svg)
    classes = re.match(r'<svg[^>]*class="([^"]*)"', svg)
    return _image(_styled(svg), unescape(said[1]) if said else "drawing", classes[1] if classes else "")


def _styled(svg: str) -> str:
    svg = _LETTERS.sub(lambda found: _TEXT.sub(lambda t: _PRIMES.sub(_IN_DRAWINGS, t[0]), found[0]), svg)
    classes = re.match(r'<svg[^>]*class="([^"]*)"', svg)
    own = (
        svg if "xmlns=" in svg[: svg.index(">")] else svg.replace("<svg", '<svg xmlns="http://www.w3.org/2000/svg"', 1)
    )
    end = own.index(">") + 1
    styled = f"{own[:end]}<style>{_of_pictures()}</style>{own[end:]}"
    box = _BOX.search(own[:end])
    if box:
        left, top, wide, high = map(float, box.groups())
        if "graph" in (
            classes[1] if classes else ""
        ):  # its outermost figures reach beyond it, which a page of the screen shows
            left, wide = left - 8, wide + 26
        # A view box alone has no size of its own on paper.
        sized = f'viewBox="{left:g} {top:g} {wide:g} {high:g}" width="{wide:g}" height="{high:g}"'
        opening = re.sub(r' (?:width|height|viewBox)="[^"]*"', "", own[:end]).replace("<svg", f"<svg {sized}", 1)
        styled = f"{opening}<style>{_of_pictures()}</style>{own[end:]}"
    return styled


@lru_cache(256)
def _formula(markup: str) -> str:
    said = _LABEL.search(markup)
    words = unescape(said[1]) if said else spoken(_entities(markup))
    try:
        made = ziamath.Math(_entities(markup), size=_EX)
        svg, low = made.svg(), made.getyofst()
    except Exception:  # a formula that cannot be set is read instead
        return f"<i>{words}</i>"
    return _image(svg, " ".join(words.split()), "formula", f"vertical-align: {low:.2f}px")


def _entities(markup: str) -> str:
    """Markup whose named entities are letters, for a reader of XML; those that XML itself needs stay."""
    return re.sub(r"&(?!amp;|lt;|gt;|quot;|apos;|#)(\w+);", lambda found: unescape(found[0]), markup)


def _image(svg: str, alt: str, classes: str, style: str = "") -> str:
    data = base64.b64encode(svg.encode()).decode()
    said = alt.replace("&", "&amp;").replace('"', "&quot;").replace("<", "&lt;")
    styled = f' style="{style}"' if style else ""
    return f'<img class="{classes}" alt="{said}" src="data:image/svg+xml;base64,{data}"{styled}>'


_PART = re.compile(r'font-family: "([^"]+)"(;[^}]*?-(greek|latin-ext)-)')


@cache
def _faces() -> str:
    """The faces of the pages, each part of an alphabet a family of its own: two files of one name would lend each other their letters."""
    return _PART.sub(lambda found: f'font-family: "{found[1]} {found[3]}"{found[2]}', assets.text("css/fonts.css"))


@cache
def _colours() -> dict[str, str]:
    """The colours and fonts of the light theme by their names."""
    sheet = assets.text("css/cavrel.css")
    found: dict[str, str] = {}
    for block in re.findall(r":root[^{]*\{([^}]*)\}", sheet)[:2]:
        found |= {name: value.strip() for name, value in re.findall(r"(--[a-z-]+):\s*([^;]+);", block)}
    return found


def _resolved(css: str) -> str:
    """Style sheets for a reader that knows no variables."""
    known = _colours()
    for _ in range(3):
        css = _VARIABLE.sub(lambda found: known.get(found[1], "inherit"), css)
    css = css.replace("system-ui", '"STIX Text", "STIX Math", system-ui')
    css = css.replace("ui-monospace", '"STIX Math", ui-monospace')
    parts = {found[1]: found[3] for found in _PART.finditer(assets.text("css/fonts.css"))}
    for family, part in parts.items():
        css = css.replace(f'"{family}"', f'"{family}", "{family} {part}"')
    return css


@cache
def _of_pictures() -> str:
    """The rules of the page's own style sheet that speak of what stands in drawings."""
    sheet = re.sub(r"/\*.*?\*/", "", assets.text("css/cavrel.css"), flags=re.S)
    rules = [
        f"{selectors.strip()} {{{body}}}"
        for selectors, body in re.findall(r"([^{}@]+)\{([^{}]*)\}", sheet)
        if re.search(r"\.(graph|apparatus|circuit)\b", selectors) and ":" not in selectors
    ]
    css = _resolved(" ".join(rules)).replace("currentcolor", _colours()["--ink"])
    # In drawings a space before a family's name is taken for a part of it.
    return css.replace('", "', '","').replace('", ', '",')
