"""Sizes as people write and read them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.core.errors import BadArgument
from neogenesis.core.estimate import remaining_seconds
from neogenesis.core.units import (
    both_text,
    decimal_text,
    duration_text,
    nominal_bytes,
    parse_size,
    round_down,
    round_up,
)


def test_nominal_capacities_follow_the_industry_rule() -> None:
    assert nominal_bytes(500) == 500_107_862_016
    assert nominal_bytes(1000) == parse_size("1TB") == parse_size("1000GB") == 1_000_204_886_016
    assert parse_size("4TB") == 4_000_787_030_016
    assert parse_size("931GiB") == 931 * 2**30 and parse_size("1000204886016") == nominal_bytes(1000)
    assert parse_size("1.5TiB") == 3 * 2**39


def test_both_units_are_shown() -> None:
    assert both_text(4_000_787_030_016) == "4 TB (3.64 TiB)"
    assert decimal_text(999_950_000_000) == "1 TB" or decimal_text(999_950_000_000) == "1000 GB"
    assert both_text(0) == "0 B (0 B)"


@pytest.mark.parametrize("text", ["", "0", "-1GB", "1 XB", "1e9", "99999999EB", "NaN", "1TB1", "９TB ZB"])
def test_nonsense_is_refused_in_words(text: str) -> None:
    with pytest.raises(BadArgument, match="size"):
        parse_size(text)


@given(st.integers(0, 1 << 60), st.integers(1, 1 << 30))
def test_rounding(value: int, step: int) -> None:
    assert round_down(value, step) <= value <= round_up(value, step)
    assert round_up(value, step) - round_down(value, step) in (0, step)


@given(st.floats(1, 1e15), st.floats(0.1, 1e7), st.floats(0, 1e15), st.floats(0, 1e12))
def test_time_left_is_a_range_that_holds_the_average(done: float, elapsed: float, left: float, recent: float) -> None:
    low, high = remaining_seconds(done, elapsed, left, recent)
    assert 0 <= low <= high
    average = left / (done / elapsed)
    assert low <= average * 1.0001 and average <= high * 1.0001


def test_durations_in_words() -> None:
    assert [duration_text(s) for s in (0.2, 42, 89, 90, 3000, 7500)] == [
        "0 s",
        "42 s",
        "89 s",
        "2 min",
        "50 min",
        "2 h 05 min",
    ]
