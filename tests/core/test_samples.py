"""Samples as sensors' programs write them."""

import math

import pytest

from cavrel.core.errors import ReadingError
from cavrel.core.logbook.samples import read_export


@pytest.mark.parametrize(
    "text",
    [
        "0.00\t1.5\n0.02\t1.7\n0.04\t1.9\n",
        "t (s);v (m/s)\n0,00;1,5\n0,02;1,7\n0,04;1,9",
        "time,velocity [m/s]\r\n0.00,1.5\r\n0.02,1.7\r\n0.04,1.9\r\n",
        "  0.00   1.5 \n0.02 1.7\n0.04   1.9",
        "0,00 1,5\n0,02 1,7\n0,04 1,9",
        '\ufeff"Time (s)"\t"Velocity (m/s)"\n0.00\t1.5\n0.02\t1.7\n0.04\t1.9',
    ],
)
def test_two_columns(text: str) -> None:
    export = read_export(text)
    assert export.time == 0
    found = export.samples(0, 1)
    assert found.times == [0.0, 0.02, 0.04]
    assert found.values == [1.5, 1.7, 1.9]
    assert found.unit == ("m/s" if "m/s" in text else "")


def test_values_alone() -> None:
    export = read_export("v (furlongs)\n1.5\n1.7e0\n-2\n")
    assert export.time is None
    assert export.alone(0).values == [1.5, 1.7, -2.0]
    assert export.alone(0, sign=-1).values == [-1.5, -1.7, 2.0]


EXPORT = """Evening course, bench Wick
saved 19:04
Time (s);Position (m);Velocity (m/s);Acceleration (m/s²)
0,00;0,101;;
0,02;0,102;;
0,04;0,104;0,050;
0,06;0,107;0,085;1,75
0,00;0,300;0,010;
0,02;0,301;0,020;0,50
0,04;0,302;0,031;0,51
"""


def test_an_export_with_blanks_two_runs_and_a_decimal_comma() -> None:
    export = read_export(EXPORT)
    assert [(c.name, c.unit, c.filled) for c in export.columns] == [
        ("Time", "s", 7),
        ("Position", "m", 7),
        ("Velocity", "m/s", 5),
        ("Acceleration", "m/s^2", 3),
    ]
    assert export.runs == ((0, 4), (4, 7))
    assert export.time == 0
    assert export.best("m/s") == 2
    assert export.best("m") == 1
    first = export.samples(0, 2, 1)
    assert first.times == [0.04, 0.06]
    assert export.samples(0, 2, 2, -1).values == [-0.010, -0.020, -0.031]
    assert math.isnan(export.rows[0][2])


def test_runs_set_apart_by_an_empty_line_and_units_in_a_line_of_their_own() -> None:
    assert read_export("0 1\n1 2\n\n0 4\n1 5\n").runs == ((0, 2), (2, 4))
    export = read_export("Zeit\tWinkel\nms\t°\n0\t1\n20\t2\n")
    assert [c.unit for c in export.columns] == ["ms", "°"]
    assert export.samples(0, 1).times == [0.0, 0.02]


def test_a_line_that_is_no_sample_is_named() -> None:
    export = read_export("0 1\n1 2\n2 oops\n3 4\n4 5\n")
    assert export.strange == ((3, "2 oops"),)
    assert export.runs == ((0, 2), (2, 4))


@pytest.mark.parametrize("text", ["", "only words\nand more", "1", "a,b,c\n"])
def test_a_text_without_samples_says_so(text: str) -> None:
    with pytest.raises(ReadingError, match="no samples"):
        read_export(text)


@pytest.mark.parametrize(
    ("choice", "what"),
    [
        ((0, 5), "no column 6"),
        ((0, 1, 3), "no run 3"),
        ((1, 0), "is not later"),
        ((0, 2), "fewer than two"),
    ],
)
def test_a_choice_that_gives_no_samples_says_why(choice: tuple[int, ...], what: str) -> None:
    with pytest.raises(ReadingError) as fault:
        read_export("0 1;\n".replace(" ", ";") + "1;1;\n2;0;7\n").samples(*choice)
    assert what in str(fault.value)


def test_numbers_too_large_for_a_sample_are_blanks() -> None:
    assert read_export("0 1\n1 1e200\n2 3\n").samples(0, 1).values == [1.0, 3.0]
