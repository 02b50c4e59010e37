"""Tests of the canal lock, with pytest: `cd clients && ISODYNE=… python3 -m pytest example_test.py`."""

import os

import isodyne
import pytest
from isodyne_fixture import bench  # noqa: F401

LOCK = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "examples", "canal-lock", "lock.dyne")


def test_the_keeper_fills_the_chamber(bench):
    run = bench(LOCK, setting="model")
    run.set("request", "up")
    run.set("barge_called", True)
    assert run.wait("chamber.level > 5 m", within="20 min") is not None
    assert run.so_far()["L-01"] is None  # not broken, so far


def test_what_cannot_be_set_is_refused(bench):
    run = bench(LOCK, setting="model")
    with pytest.raises(isodyne.Refused) as no:
        run.set("chamber.level", "3 m")
    assert no.value.data == "not_settable"


def test_a_level_is_captured_where_it_passes(bench):
    run = bench(LOCK, setting="model")
    begun = run.begin_capture("chamber.level", when="chamber.level > 3 m", before="1 s", after="2 s")
    run.set("request", "up")
    kept = begun.take()
    levels = kept.columns["chamber.level"]
    assert kept.whole and len(levels) == 3001
    assert levels[999] <= 3 < levels[1000]
