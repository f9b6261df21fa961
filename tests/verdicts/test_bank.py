"""A tenth of the bank: sound set-ups raise no alarm, planted faults are named. `make bank` runs all
of it.
"""

import re

import pytest

from .faults import FAULTS
from .setup import said_of
from .sound import FAMILIES

SOUND = ["musts", "casks", "rare rejections", "small pictures", "noisy numbers", "waves", "labels"]
PLANTED = [
    "shuffled targets",
    "rows nearly doubled",
    "two units",
    "leak of a number",
    "swapped columns",
    "copies of pictures",
    "relu for negative numbers",
    "rate too high",
    "overfits numbers",
    "weights that miscalibrate",
    "schedule ends early",
    "times mixed",
]


@pytest.mark.parametrize("name", SOUND)
def test_of_a_sound_set_up_nothing_bad_is_said(name):
    made, _ = FAMILIES[name]
    troubles = [str(one) for one in said_of(made(3)) if one.verdict in ("suspicious", "wrong")]
    assert not troubles


@pytest.mark.parametrize("name", PLANTED)
def test_a_planted_fault_is_named(name):
    fault = FAULTS[name]
    found = [str(one) for one in said_of(fault.made(0)) if one.verdict in ("suspicious", "wrong")]
    assert [text for text in found if re.search(fault.says, text)], found


def test_the_bank_is_as_large_as_it_says():
    assert sum(seeds for _, seeds in FAMILIES.values()) >= 60
    assert 2 * len(FAULTS) >= 60
    assert set(SOUND) <= set(FAMILIES)
    assert set(PLANTED) <= set(FAULTS)
