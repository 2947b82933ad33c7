"""Two versions of a report compared: words by words, numbers by their places."""

import re
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Any

from cavrel.core.definition.rules import RULES

_WORDS = re.compile(r"\s+|[^\s]+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """A part that differs.

    ``title``: of the part.
    ``pieces``: its text as (``=``, ``-`` or ``+``, words), for a written part.
    ``rows``: (where, was, is), for numbers.
    """

    title: str
    pieces: list[tuple[str, str]]
    rows: list[tuple[str, str, str]]


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[Difference]:
    """What differs between two contents, in the order of the report; none where they are alike."""
    found = []
    for name in {**before["parts"], **after["parts"]}:
        old, new = (side["parts"].get(name, {"title": name, "text": "", "own": True}) for side in (before, after))
        if (old["text"], old["own"]) == (new["text"], new["own"]):
            continue
        rows = [] if old["own"] == new["own"] else [("written by", _by(old), _by(new))]
        pieces = _pieces(old["text"], new["text"]) if old["text"] != new["text"] else []
        found.append(Difference(title=new["title"], pieces=pieces, rows=rows))
    kept = before.keys() & after.keys()
    for title, rows in (
        ("Readings", _rows(_readings(before), _readings(after))),
        ("Graphs", _rows(_graphs(before), _graphs(after))),
        ("Results", _rows(_results(before), _results(after))),
        ("Other changes", _rows(_rest(before, kept), _rest(after, kept))),
    ):
        if rows:
            found.append(Difference(title=title, pieces=[], rows=rows))
    return found


def _by(part: dict[str, Any]) -> str:
    return "" if not part["text"] else "the bench" if part["own"] else "Cavrel (automatic draft)"


def _pieces(old: str, new: str) -> list[tuple[str, str]]:
    a, b = _WORDS.findall(old), _WORDS.findall(new)
    pieces: list[tuple[str, str]] = []
    for tag, i, j, k, n in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag == "equal":
            pieces.append(("=", "".join(a[i:j])))
            continue
        if j > i:
            pieces.append(("-", "".join(a[i:j])))
        if n > k:
            pieces.append(("+", "".join(b[k:n])))
    return pieces


def _rows(before: dict[str, str], after: dict[str, str]) -> list[tuple[str, str, str]]:
    return [
        (where, before.get(where, ""), after.get(where, ""))
        for where in {**before, **after}
        if before.get(where, "") != after.get(where, "")
    ]


def _readings(content: dict[str, Any]) -> dict[str, str]:
    found: dict[str, str] = dict(content["quantities"])
    for table in content["tables"]:
        caption = table["caption"]
        heads = [f"{what}{f' / {unit}' if unit else ''}" for what, unit in table["head"]]
        for row in table["rows"]:
            for column, cell in list(enumerate(row[: len(heads)]))[1:]:
                # Trials of one column share a heading: each is a place of its own.
                alike = [i for i in range(1, len(heads)) if heads[i] == heads[column]]
                trial = f", trial {alike.index(column) + 1}" if len(alike) > 1 else ""
                found[f"{caption}, row {row[0]}, {heads[column]}{trial}"] = cell
        for number, reason in table["out"].items():
            found[f"{caption}, row {number}"] = f"left out: {reason}"
    return found


def _graphs(content: dict[str, Any]) -> dict[str, str]:
    return {
        f"{figure['caption']}, {re.sub('<[^>]+>', '', name)}": text
        for figure in content["figures"]
        for name, text in figure["parameters"]
    }


def _results(content: dict[str, Any]) -> dict[str, str]:
    found = {}
    for result in content["results"]:
        if result.get("missing"):
            found[result["label"]] = f"missing: {result['missing']}"
            continue
        found[result["label"]] = result["text"]
        found[f"{result['label']}, compared with"] = result["beside"]
        found[f"{result['label']}, verdict"] = result["verdict"]["head"]
    return found


def _rest(content: dict[str, Any], kept: set[str]) -> dict[str, str]:
    """What readings and results rest on besides themselves. ``kept``: parts that both versions hold; older ones hold fewer."""
    found = {name: content[name] for name in ("title", "experiment", "bench")}
    found |= {
        f"{label}": ", ".join(filter(None, (least, says, reads)))
        for label, least, says, reads in content["instruments"]
    }
    own = {name: content[name] for name in kept}
    found |= {f"{label}, zero reading": text for label, text in own.get("zeros", [])}
    found |= dict(own.get("conventions", []))
    for name, value in own.get("rules", {}).items():
        if name in RULES:
            found[RULES[name].title] = RULES[name].choices.get(value, value)
    if "definition" in own:
        found["Definition of the experiment"] = own["definition"]
    for trace in own.get("traces", []):
        where, _, says = trace["caption"].partition(":")
        found[f"Trace: {where}"] = says.strip()
    found |= dict(own.get("contradictions", []))
    return found
