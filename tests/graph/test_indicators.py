"""What floats is drawn as deep as it lies, and said to what an eye sees."""

import re

import pytest

from cavrel.graph import indicators


@pytest.mark.parametrize(
    ("share", "says"),
    [
        (0.5, "about half"),
        (0.93, "about 5 %"),
        (0.6, "about 40 %"),
        (0.99, "hardly anything"),
        (1.0, "hardly anything"),
        (1.01, "sinks"),
        (19.3, "sinks"),
        (0.001, "about 100 %"),
    ],
)
def test_an_eye_sees_a_twentieth(share: float, says: str) -> None:
    assert says in indicators.afloat_says(share)


@pytest.mark.parametrize("share", [0.001, 0.4, 0.93, 1.0, 1.2, 19.3])
def test_the_block_lies_as_deep_as_it_is_dense(share: float) -> None:
    drawn = indicators.afloat(share, "a block")
    block = re.search(r"<rect [^>]*block-afloat[^>]*>", drawn)
    liquid = re.search(r'<rect [^>]*class="liquid"[^>]*>', drawn)
    assert block
    assert liquid

    def number(of: str, name: str) -> float:
        found = re.search(rf'\b{name}="([-\d.]+)"', of)
        assert found
        return float(found[1])

    top, high = number(block[0], "y"), number(block[0], "height")
    surface, deep = number(liquid[0], "y"), number(liquid[0], "height")
    assert top + high <= surface + deep + 0.1
    under = min(max(top + high - surface, 0), high) / high
    assert under == pytest.approx(min(share, 1), abs=0.005)
    assert (top + high == pytest.approx(surface + deep, abs=0.1)) == (share > 1)
