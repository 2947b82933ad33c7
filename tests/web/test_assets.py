"""Styles, scripts and fonts: kept by the browser for good, packed on the way, and no larger than they need be."""

import gzip
import re
from pathlib import Path

from flask.testing import FlaskClient

import cavrel
from cavrel.web import assets
from cavrel.web.assets import _COMPONENTS, STATIC, STYLES


def addresses(client: FlaskClient) -> list[str]:
    return re.findall(r'(?:href|src)="(/static/[^"]+)"', client.get("/").text)


def test_what_a_page_names_may_be_kept_for_good(client: FlaskClient) -> None:
    assert len(addresses(client)) > 5
    for address in addresses(client):
        answer = client.get(address)
        assert answer.status_code == 200, address
        assert "immutable" in answer.headers["Cache-Control"]


def test_another_version_is_answered_but_not_kept(client: FlaskClient) -> None:
    """A page drawn before an update still loads its scripts."""
    old = re.sub(r"/static/[^/]+/", "/static/0123456789ab/", addresses(client)[-1])
    answer = client.get(old)
    assert answer.status_code == 200
    assert "immutable" not in answer.headers["Cache-Control"]
    assert client.get("/static/0123456789ab/../../app.py").status_code == 404


def test_answers_are_packed(client: FlaskClient) -> None:
    plain = client.get("/runs/1/measure").data
    for name in ("gzip", "br"):
        packed = client.get("/runs/1/measure", headers={"Accept-Encoding": name})
        assert packed.headers["Content-Encoding"] == name
        assert len(packed.data) < len(plain) / 4
    body = gzip.decompress(client.get("/", headers={"Accept-Encoding": "gzip"}).data)
    assert b"Experiments" in body


def test_the_first_visit_carries_no_more_than_half_a_megabyte() -> None:
    """All fonts, styles and scripts, as files; the mathematics font holds what formulas use."""
    fonts = {path.name: path.stat().st_size for path in STATIC.rglob("*.woff2")}
    assert fonts["stix-two-math-latin-400-normal.woff2"] < 80_000
    text = sum(len(gzip.compress(p.read_bytes(), 6)) for p in STATIC.rglob("*") if p.suffix in (".css", ".js", ".svg"))
    assert sum(fonts.values()) + text < 500_000


def test_print_hides_nothing_that_a_drawing_shows() -> None:
    """A rule that hides a part of the page by a class alone would hide a drawing's part of the same class, too."""
    css = assets.text(STYLES)
    hidden = {
        selector.strip()[1:]
        for rule in re.findall(r"([^{}]*)\{\s*display: none !important;\s*\}", css)
        for selector in rule.split(",")
        if re.fullmatch(r"\.[\w-]+", selector.strip())
    }
    assert "rail" in hidden
    root = Path(cavrel.__file__).parent
    drawn = set()
    for file in [*(root / "graph").glob("*.py"), *(root / "catalogue").rglob("*.svg")]:
        text = file.read_text(encoding="utf-8")
        for names in re.findall(r'class_?="([\w -]+)"', text):
            drawn |= set(names.split())
        drawn |= set(re.findall(r'"((?:value )?(?:own|other)[\w -]*)"', text))
    assert {"own", "accepted-ground"} <= drawn
    assert not hidden & drawn


def test_every_part_that_a_page_loads_is_there() -> None:
    """`page.js` loads its parts by name, which no import checks."""
    scripts = Path(cavrel.web.__file__).parent / "static" / "js"
    named = re.findall(r'part\("(\w+)"', (scripts / "page.js").read_text())
    listed = re.findall(r"of \[([^\]]+)\]", (scripts / "page.js").read_text())
    named += [name.strip(' "') for names in listed for name in names.split(",")]
    assert len(named) > 12
    assert [name for name in named if not (scripts / f"{name}.js").exists()] == []


def test_every_component_of_the_look_is_served_once() -> None:
    """A file that nobody names would be a look that nobody sees."""
    components = {path.stem for path in (STATIC / "css" / "components").glob("*.css")}
    assert sorted(_COMPONENTS) == sorted(components)
    assert assets.text(STYLES).count("{") == assets.text(STYLES).count("}")
