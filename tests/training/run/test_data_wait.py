"""A run that waits for its data says so, once."""

import logging

import numpy as np

from vinestep.training.run import _data_wait as module
from vinestep.training.run._data_wait import Waiting


def clock(monkeypatch, reading, working):
    """Each batch takes so long to come, and so long to be worked on."""
    times = iter(np.cumsum([0.0] + [reading, working] * 50).tolist())
    monkeypatch.setattr(module, "perf_counter", lambda: next(times))


def test_much_waiting_is_said_once(monkeypatch, caplog):
    clock(monkeypatch, 1.0, 0.5)
    with caplog.at_level(logging.WARNING):
        assert list(Waiting().through(range(20))) == list(range(20))
    assert [record.message.count("67% of the time") for record in caplog.records] == [1]


def test_little_waiting_is_not(monkeypatch, caplog):
    clock(monkeypatch, 0.1, 0.9)
    list(Waiting().through(range(20)))
    assert not caplog.records
