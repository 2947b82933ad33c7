"""An experiment without some of its tables: what rests on them goes with them, and is asked for nowhere."""

import re
from collections.abc import Collection, Iterator, Mapping
from typing import Any

from cavrel.core.definition.loading import load
from cavrel.core.definition.whole import Definition
from cavrel.core.errors import DefinitionError
from cavrel.core.remember import by_identity

_NAME, _UNIT = re.compile(r"(?<![\w.])[A-Za-z]\w*"), re.compile(r"\[[^\]]*\]")
_MEMBER = re.compile(r"[A-Za-z]\w*\.[A-Za-z]\w*")
_JUDGED = ("accepted", "below", "above")


@by_identity(256)
def without_parts(definition: Definition, parts: frozenset[str]) -> Definition:
    """The definition without the tables of these names. Quantities that only they asked for go as well.

    Raises DefinitionError where nothing would be left.
    """
    if parts >= set(definition.series):
        raise DefinitionError("series", "one part at least is to be done")
    left = _Left(definition.document(), parts).document()
    if definition.results and not left["results"]:
        raise DefinitionError("series", "without this part no result would be left")
    return load(left)


class _Left:
    """Takes tables out of a definition's document, and then all that names what is gone, until nothing does."""

    def __init__(self, document: dict[str, Any], parts: Collection[str]) -> None:
        self._whole = document
        self._gone = set(parts)
        self._asked = self._read_names(document)
        for name in parts:
            document["series"].pop(name, None)
        while self._pruned():
            pass

    def document(self) -> dict[str, Any]:
        """What is left."""
        whole, gone = self._whole, self._gone
        for result in whole.get("results", {}).values():
            if self._names(result.get("accepted")):
                for key in _JUDGED:
                    result.pop(key, None)
        still = self._read_names(whole)
        for name, body in list(whole.get("quantities", {}).items()):
            if name in self._asked - still and "formula" not in body:
                self._drop("quantities", name)
        for option in whole.get("options", {}).values():
            for choice in option["choices"].values():
                if choice.get("carries") in gone:
                    del choice["carries"]
                    choice.pop("over", None)
        whole["answers"] = [name for name in whole.get("answers", []) if name not in gone]
        for table, texts in (("checks", ("rule",)), ("identities", ("left", "right")), ("suggest", ("formula",))):
            kept = [one for one in whole.get(table, []) if not any(self._names(one[text]) for text in texts)]
            whole[table] = [one for one in kept if one.get("series") not in gone and not self._of(one.get("for", ""))]
        whole["verify"] = [one for one in whole.get("verify", []) if one["series"] not in gone]
        whole["pictures"] = {n: one for n, one in whole.get("pictures", {}).items() if one.get("series") not in gone}
        whole["steps"] = [*self._steps(whole.get("steps", []))]
        causes = [{**c, "without": self._kept(c["without"])} for c in whole.get("systematic", [])]
        whole["systematic"] = [cause for cause in causes if cause["without"]]
        if "simulate" in whole:
            self._simulate(whole["simulate"])
        return whole

    def _pruned(self) -> bool:
        """Take away what names what is gone; whether there was anything."""
        before, whole = len(self._gone), self._whole
        for series, body in whole["series"].items():
            for column, described in list(body["columns"].items()):
                if self._names(described.get("formula"), series):
                    del body["columns"][column]
                    self._gone.add(f"{series}.{column}")
        for name, fit in list(whole.get("fits", {}).items()):
            texts = (fit.get(key) for key in ("x", "y", "at", "formula"))
            if fit["series"] in self._gone or any(self._names(text, fit["series"]) for text in texts):
                self._drop("fits", name)
        for table in ("quantities", "predict"):
            for name, body in list(whole.get(table, {}).items()):
                if body.get("fit") in self._gone or self._names(body.get("formula")) or self._names(body.get("at")):
                    self._drop(table, name)
        for name, result in list(whole.get("results", {}).items()):
            if "combine" in result:
                left = [other for other in result["combine"] if other not in self._gone]
                if len(left) == 1:
                    result.pop("combine")
                    result["formula"] = left[0]
                elif left:
                    result["combine"] = left
            means = result.get("combine")
            if self._names(result.get("formula")) or (means is not None and not set(means) - self._gone):
                self._drop("results", name)
        return len(self._gone) > before

    def _drop(self, table: str, name: str) -> None:
        del self._whole[table][name]
        self._gone.add(name)

    def _names(self, text: str | None, series: str = "") -> bool:
        """Whether a formula names anything that is gone; a column of its own ``series`` means itself."""
        columns = self._whole["series"].get(series, {}).get("columns", {})
        words = _words(text or "")
        if self._gone.intersection(_MEMBER.findall(_UNIT.sub("", text or ""))):
            return True
        return bool((words - set(columns)) & self._gone) or any(f"{series}.{name}" in self._gone for name in words)

    def _of(self, place: str) -> bool:
        """Whether a column or quantity is gone."""
        return place in self._gone or place.partition(".")[0] in self._gone

    def _kept(self, by_place: Mapping[str, Any]) -> dict[str, Any]:
        return {place: value for place, value in by_place.items() if not self._of(place)}

    def _steps(self, steps: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
        for step in steps:
            fills = [fill for fill in step.get("fills", []) if not self._of(fill)]
            if fills or not step.get("fills"):
                yield {**step, "fills": fills} if fills else step

    def _simulate(self, plan: dict[str, Any]) -> None:
        for key in ("set", "read", "vary", "noise", "seek", "settle", "motion"):
            if key in plan:
                plan[key] = self._kept(plan[key])
        for name, fault in list(plan.get("faults", {}).items()):
            for key in ("read", "row", "once"):
                if key in fault:
                    fault[key] = self._kept(fault[key])
            if not any(fault.get(key) for key in ("read", "row", "once")):
                del plan["faults"][name]

    @staticmethod
    def _read_names(document: dict[str, Any]) -> set[str]:
        """Every name that a formula of the experiment's own work names; the simulation asks for nothing."""
        texts = (
            value
            for table in ("quantities", "series", "fits", "results", "predict", "checks", "verify", "pictures")
            for value in _texts(document.get(table, {}))
        )
        return {name for text in texts for name in _words(text)}


def _words(text: str) -> set[str]:
    return set(_NAME.findall(_UNIT.sub("", text)))


_FORMULAS = {"formula", "x", "y", "at", "rule", "accepted", "value", "standard", "within", "pivot", "force"}


def _texts(part: Any) -> Iterator[str]:
    """Every formula within a part of a document."""
    for key, value in part.items() if isinstance(part, dict) else enumerate(part):
        if isinstance(value, str) and key in _FORMULAS:
            yield value
        elif isinstance(value, dict | list):
            yield from _texts(value)
