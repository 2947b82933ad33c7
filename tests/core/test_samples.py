"""Samples as sensors' programs write them."""

import pytest

from cavrel.core.errors import ReadingError
from cavrel.core.logbook.samples import read_samples


@pytest.mark.parametrize(
    "text",
    [
        "0.00\t1.5\n0.02\t1.7\n0.04\t1.9\n",
        "t (s);v (m/s)\n0,00;1,5\n0,02;1,7\n0,04;1,9",
        "time,velocity [m/s]\r\n0.00,1.5\r\n0.02,1.7\r\n0.04,1.9\r\n",
        "  0.00   1.5 \n\n 0.02 1.7\n0.04   1.9",
        "0,00 1,5\n0,02 1,7\n0,04 1,9",
    ],
)
def test_two_columns(text: str) -> None:
    found = read_samples(text)
    assert found.times == [0.0, 0.02, 0.04]
    assert found.values == [1.5, 1.7, 1.9]
    assert found.unit == ("m/s" if "m/s" in text else "")


def test_values_alone() -> None:
    assert read_samples("v (furlongs)\n1.5\n1.7e0\n-2\n").values == [1.5, 1.7, -2.0]
    assert read_samples("1\n2").times is None


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("", "no samples"),
        ("only words\nand more", "no samples"),
        ("0 1\n1 2\n2 oops\n", "line 3: 'oops' is no number"),
        ("0 1\n1 2\n2 3 4\n", "line 3: 3 numbers"),
        ("0 1\n1 2\n1 3\n", "sample 3 is not later"),
        ("0 1\n1 2\n3\n", "line 3: 1 numbers"),
    ],
)
def test_what_is_wrong_is_said_with_its_line(text: str, what: str) -> None:
    with pytest.raises(ReadingError) as fault:
        read_samples(text)
    assert what in str(fault.value)
