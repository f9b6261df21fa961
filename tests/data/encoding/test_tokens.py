"""Tokenisers: exact round trips, merges as the paper's algorithm says, padding, answers."""

from collections import Counter
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.data import (
    BytePairTokeniser,
    ByteTokeniser,
    CharacterTokeniser,
    Template,
    TokenBatch,
    WordTokeniser,
    open_tokeniser,
)
from vinestep.data.encoding._tokens import PIECES
from vinestep.errors import DataError

CORPUS = [
    "Racked tank 12 to tank 14, added 20 s; topped up.",
    "not at all thin, though sour: blend with 14",
    "Trübung nach 3 Tagen, 木樽, \t tabs and  spaces\n\nlines",
]
TEXTS = st.text(st.characters(codec=None), max_size=40)
PAIRS = BytePairTokeniser.learned(CORPUS * 3, tokens=400)


@given(TEXTS)
def test_pieces_are_all_of_a_text(text):
    assert "".join(PIECES.findall(text)) == text


@settings(max_examples=200)
@given(TEXTS)
def test_bytes_and_pairs_give_back_any_text(text):
    for tokeniser in (ByteTokeniser(), PAIRS):
        numbers = tokeniser.encode(text, begin=True, end=True, length=None)
        assert tokeniser.decode(numbers) == text


@pytest.mark.parametrize("kind", [CharacterTokeniser, WordTokeniser])
def test_what_was_learned_comes_back(kind):
    tokeniser = kind.learned(CORPUS)
    for text in CORPUS:
        assert tokeniser.decode(tokeniser.encode(text)) == text
    assert tokeniser.unknown in tokeniser.encode("ж")


def naive_merges(corpus, room):
    """The algorithm as the paper states it: count all pairs, merge the most frequent, begin
    anew.
    """
    words = Counter(piece for text in corpus for piece in PIECES.findall(text))
    split = {word: list(word.encode()) for word in words}
    merges = []
    while len(merges) < room:
        pairs = Counter()
        for word, parts in split.items():
            for pair in pairwise(parts):
                pairs[pair] += words[word]
        if not pairs or max(pairs.values()) < 2:
            break
        best = min(pairs, key=lambda pair: (-pairs[pair], pair))
        for word, parts in split.items():
            merged, i = [], 0
            while i < len(parts):
                if tuple(parts[i : i + 2]) == best:
                    merged.append(256 + len(merges))
                    i += 2
                else:
                    merged.append(parts[i])
                    i += 1
            split[word] = merged
        merges.append(best)
    return tuple(merges)


@given(st.lists(st.text("abcaab ", max_size=30), min_size=1, max_size=5))
def test_merges_are_those_of_the_plain_algorithm(corpus):
    assert BytePairTokeniser.learned(corpus, tokens=280).merges == naive_merges(corpus, 20)


def test_merges_of_repeated_letters_are_those_of_the_plain_algorithm():
    corpus = ["aaaa aaa aaaaa", "abababab"]
    assert BytePairTokeniser.learned(corpus, tokens=290).merges == naive_merges(corpus, 30)


@pytest.mark.parametrize(
    "tokeniser",
    [
        ByteTokeniser(["<answer>"]),
        PAIRS,
        CharacterTokeniser.learned(CORPUS),
        WordTokeniser.learned(CORPUS),
    ],
)
def test_files_hold_the_whole_tokeniser(tokeniser, tmp_path):
    again = open_tokeniser(tokeniser.save(tmp_path / "tokens.json"))
    assert type(again) is type(tokeniser)
    assert again.special == tokeniser.special
    for text in CORPUS:
        np.testing.assert_array_equal(again.encode(text), tokeniser.encode(text))


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[]",
        '{"kind": "magic"}',
        '{"kind": "byte_pairs", "special": [], "merges": [[300, 2]]}',
        "{",
    ],
)
def test_files_without_one_are_refused(text, tmp_path):
    (tmp_path / "tokens.json").write_text(text)
    with pytest.raises(DataError):
        open_tokeniser(tmp_path / "tokens.json")


def test_lengths_and_special_tokens():
    tokeniser = CharacterTokeniser.learned(["abc"])
    numbers = tokeniser.encode("abcabc", begin=True, end=True, length=5)
    assert numbers.tolist() == [1, 4, 5, 6, 2]
    assert tokeniser.encode("abcabc", length=2, keep="last").tolist() == [5, 6]
    assert tokeniser.encode("a", end=True, length=4).tolist() == [4, 2, 0, 0]
    assert tokeniser.decode([1, 4, 0, 2]) == "a"
    with pytest.raises(DataError, match="leaves no room"):
        tokeniser.encode("a", begin=True, end=True, length=1)
    with pytest.raises(DataError, match="no token 99"):
        tokeniser.decode([99])


def test_only_answers_are_learned_and_padding_is_left_out():
    template, tokeniser = Template("{entry} = {sentence}"), ByteTokeniser()
    items = [
        template.example(tokeniser, {"entry": a, "sentence": b})
        for a, b in (("rk", "racked"), ("tp 14", "topped up 14"))
    ]
    (batch,) = vs.data.Examples(items).batches(2, shuffled=False, join=TokenBatch())
    for (numbers, learned), inputs, targets, mask in zip(
        items, batch.inputs, batch.targets, batch.masks, strict=True
    ):
        n = len(numbers) - 1
        assert mask.sum() == n
        np.testing.assert_array_equal(inputs[:n], numbers[:-1])
        np.testing.assert_array_equal(targets[:n], np.where(learned[1:], numbers[1:], -1))
        assert (targets[n:] == -1).all()
    outputs = np.random.default_rng(0).normal(size=(*batch.targets.shape, len(tokeniser)))
    loss = vs.losses.cross_entropy(outputs, batch.targets, ignored=-1)
    outputs[batch.targets == -1] = 7
    assert float(vs.losses.cross_entropy(outputs, batch.targets, ignored=-1)) == pytest.approx(
        float(loss)
    )


def test_a_file_that_was_changed_is_refused(tmp_path):
    file = BytePairTokeniser.learned(["racked the cask, racked the barrel"], tokens=270).save(
        tmp_path / "pairs.json"
    )
    assert open_tokeniser(file) == BytePairTokeniser.learned(
        ["racked the cask, racked the barrel"], tokens=270
    )
    content, refused = bytearray(file.read_bytes()), 0
    for at in range(0, len(content), 3):
        changed = bytearray(content)
        changed[at] ^= 1
        file.write_bytes(changed)
        try:
            assert open_tokeniser(file) == BytePairTokeniser.learned(
                ["racked the cask, racked the barrel"], tokens=270
            )
        except DataError:
            refused += 1
    assert refused > 0.9 * len(range(0, len(content), 3))
