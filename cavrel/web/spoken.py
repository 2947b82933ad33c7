"""A formula in words, for who hears a report: from its MathML, so that powers, fractions and roots are said as such."""

from xml.etree import ElementTree

_SIGNS = {
    "=": "equals",
    "≈": "is about",
    "≤": "is at most",
    "≥": "is at least",
    "<": "is less than",
    ">": "is greater than",
    "≠": "is not equal to",
    "−": "minus",
    "-": "minus",
    "+": "plus",
    "±": "plus or minus",
    "·": "times",
    "×": "times",
    "\u2062": "times",
    "\u2061": "of",
    "∝": "is proportional to",
    "→": "gives",
    "(": "(",
    ")": ")",
    "|": "|",
}
_POWERS = {"2": "squared", "3": "cubed"}


def spoken(markup: str) -> str:
    """``T squared equals 4 π squared over g end fraction times L`` from MathML whose entities are letters. Raises ElementTree.ParseError."""
    return " ".join(_words(ElementTree.fromstring(markup)).split())


def _words(node: ElementTree.Element) -> str:
    kind, parts = node.tag.rpartition("}")[2], list(node)
    text = (node.text or "").strip()
    if kind == "mo":
        return f" {_SIGNS.get(text, text)} "
    if kind == "msup":
        base, power = map(_words, parts)
        return f"{_whole(base, parts[0])} {_POWERS.get(power.strip(), f'to the power {power} end power')} "
    if kind == "msub":
        return f"{_words(parts[0])} {_words(parts[1])} "
    if kind == "mfrac":
        above, below = map(_words, parts)
        short = all(len(list(part.iter())) <= 2 for part in parts)
        return f" {above} over {below} " if short else f" fraction {above} over {below} end fraction "
    if kind == "msqrt":
        inner = " ".join(map(_words, parts))
        return f" the square root of {inner}{' end root' if len(parts) > 1 or len(list(parts[0])) > 1 else ''} "
    if kind == "mover":
        return f" mean {_words(parts[0])} "
    return " ".join([text, *map(_words, parts)])


def _whole(words: str, base: ElementTree.Element) -> str:
    """A base of several parts is said as one."""
    several = any(part.tag.rpartition("}")[2] in ("mo", "mspace", "mfrac") for part in base.iter())
    return f"( {words} )" if several and not words.strip().startswith("(") else words
