"""A stream gives the tokens of generate, and stop texts end beams where they occur."""

import numpy as np
import pytest

import vinestep as vs

TOKENISER = vs.data.ByteTokeniser()


@pytest.fixture(scope="module")
def network():
    return vs.networks.LanguageModel(len(TOKENISER), width=16, depth=1, heads=2).initialise(
        np.zeros((1, 4), int), seed=4
    )


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("stop", [(), "a", ("zz", "é"), "\ufffd"])
def test_a_stream_is_what_generate_gives(network, seed, stop):
    options = {"tokeniser": TOKENISER, "most": 25, "temperature": 1.0, "seed": seed, "stop": stop}
    whole = vs.generate(network, "ab", **options)
    pieces = list(vs.generation.stream(network, "ab", **options))
    assert [piece.token for piece in pieces] == whole.tokens
    assert "".join(piece.text for piece in pieces) == whole.text


def test_a_stop_text_ends_a_beam_where_it_occurs(network):
    free = vs.generate(network, "ab", tokeniser=TOKENISER, most=12, beams=3)
    for length in range(1, 4):
        stop = free.text[3 : 3 + length]
        if not stop or "\ufffd" in stop:
            continue
        found = vs.generate(network, "ab", tokeniser=TOKENISER, most=12, beams=3, stop=stop)
        if found.reason == "stop":
            assert stop not in found.text
            written = TOKENISER.decode(found.tokens)
            assert written.startswith(found.text + stop)
            assert stop not in TOKENISER.decode(found.tokens[:-1])


def test_one_beam_is_the_greedy_text_with_stops_too(network):
    for stop in ("e", "q", "\x00"):
        options = {"tokeniser": TOKENISER, "most": 20, "stop": stop}
        greedy = vs.generate(network, "ab", **options)
        beam = vs.generate(network, "ab", beams=1, **options)
        assert greedy.tokens == beam.tokens
        assert greedy.text == beam.text
