"""Byte pairs against their definition, and how long texts cost."""

import time
from collections import Counter

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.data.encoding import _tokens
from vinestep.data.encoding._tokens import PIECES, _learned_merges, _pieces

from .test_tokens import naive_merges

ALPHABET = st.text(st.sampled_from("aab bé\n_1"), max_size=40)


@settings(max_examples=200, deadline=None)
@given(st.lists(ALPHABET, max_size=6), st.integers(0, 40))
def test_what_is_learned_is_the_definition(texts, room):
    counts = Counter(piece for text in texts for piece in PIECES.findall(text))
    assert tuple(_learned_merges(counts, room)) == naive_merges(texts, room)


@settings(max_examples=200, deadline=None)
@given(st.lists(ALPHABET, min_size=1, max_size=4), ALPHABET)
def test_what_is_long_is_merged_as_what_is_short(texts, text):
    tokeniser = vs.data.BytePairTokeniser.learned([*texts, text, text], tokens=300)
    data = text.encode()
    assert tokeniser._merged_by_heap(data) == tokeniser._merged(data)
    assert tokeniser.decode(tokeniser.encode(text)) == text


@settings(max_examples=200, deadline=None)
@given(st.text(st.sampled_from("ab 1.\n_é\t"), max_size=60), st.integers(1, 9))
def test_pieces_of_slices_are_those_of_the_whole(text, slice_length):
    before, _tokens.SLICE = _tokens.SLICE, slice_length
    try:
        assert [piece for pieces in _pieces(text) for piece in pieces] == PIECES.findall(text)
    finally:
        _tokens.SLICE = before


def test_text_without_spaces_costs_little_more_than_its_length():
    rng = np.random.default_rng(0)
    words = ["".join(rng.choice(list("abcdefgh"), 5)) for _ in range(60)]

    def seconds(n):
        text = "".join(rng.choice(words, n // 5))
        begun = time.process_time()
        tokeniser = vs.data.BytePairTokeniser.learned([text], tokens=600)
        assert tokeniser.decode(tokeniser.encode(text)) == text
        return time.process_time() - begun

    seconds(1000)
    short, long = seconds(10_000), seconds(80_000)
    assert long < 8 * 4 * short + 0.5  # growth with the square would be 64 times


@pytest.mark.parametrize("text", ["", "a", "aa", "aaa", "aaaa", "ab" * 200, "é" * 99])
def test_small_and_even_texts(text):
    tokeniser = vs.data.BytePairTokeniser.learned([text], tokens=290)
    assert tokeniser.decode(tokeniser.encode(text)) == text
