"""Generation: beams against exhaustive search, frequencies of what is drawn, caches, batches, stop
texts, refusals.
"""

import itertools

import numpy as np
import pytest
from hypothesis import given, strategies as st
from scipy.stats import chisquare

import vinestep as vs
from vinestep import held, untracked
from vinestep.errors import LayerError, SettingError
from vinestep.generation import shaped, stream
from vinestep.generation._beams import Beam, search
from vinestep.generation._sampling import Choice, log_softmax
from vinestep.generation._session import Session


def model(tokens=12, seed=0, **options):
    made = vs.networks.LanguageModel(tokens, **{"width": 16, "depth": 2, "heads": 2, **options})
    made.initialise(np.array([[1, 2, 3]]), seed=seed)
    sharper = {path: w * 3 if path.startswith("head") else w for path, w in made.weights().items()}
    made.load(sharper)
    return made


def log_probabilities(network, ids):
    with untracked():
        return log_softmax(np.asarray(held(network(np.array([ids]))), np.float64)[0])


# choosing


@given(st.integers(0, 10_000))
def test_shaped_probabilities_are_those_of_the_definition(seed):
    rng = np.random.default_rng(seed)
    logits, k, share, temperature = (
        rng.normal(size=9),
        int(rng.integers(1, 10)),
        float(rng.uniform(0.05, 1)),
        float(rng.uniform(0.2, 3)),
    )
    p = np.exp(logits / temperature) / np.exp(logits / temperature).sum()
    np.testing.assert_allclose(shaped(logits, temperature=temperature), p, rtol=1e-12)
    best = np.argsort(-p, kind="stable")
    kept = np.zeros(9)
    kept[best[:k]] = p[best[:k]]
    np.testing.assert_allclose(
        shaped(logits, temperature=temperature, top_k=k), kept / kept.sum(), rtol=1e-12
    )
    n = int(np.searchsorted(np.cumsum(p[best]), share - 1e-15)) + 1
    kept = np.zeros(9)
    kept[best[:n]] = p[best[:n]]
    np.testing.assert_allclose(
        shaped(logits, temperature=temperature, nucleus=share), kept / kept.sum(), rtol=1e-9
    )


@pytest.mark.parametrize(
    "options",
    [{"temperature": 1.0}, {"temperature": 0.7, "top_k": 5}, {"temperature": 1.3, "nucleus": 0.8}],
)
def test_what_is_drawn_has_its_frequencies(options):
    logits = np.random.default_rng(5).normal(size=12) * 1.5
    rng, choice = np.random.default_rng(6), Choice(**options)
    counts = np.bincount([choice.drawn(logits, [1], rng)[0] for _ in range(20_000)], minlength=12)
    expected = 20_000 * shaped(logits, **options)
    assert not counts[expected == 0].any()
    assert chisquare(counts[expected > 0], expected[expected > 0]).pvalue > 1e-3


def test_repetition_is_penalised_and_constraints_hold():
    logits = np.array([2.0, -1.0, 1.9, 0.5])
    found = Choice(repetition=2.0).admitted(logits, [0, 1])
    assert found.tolist() == [1.0, -2.0, 1.9, 0.5]
    network = model()
    plain = vs.generate(network, [1, 2], most=12, repetition=1.0).tokens
    varied = vs.generate(network, [1, 2], most=12, repetition=5.0).tokens
    assert len(set(varied)) > len(set(plain))
    even = vs.generate(network, [1, 2], most=8, allowed=lambda before: range(0, 12, 2)).tokens
    assert all(token % 2 == 0 for token in even)
    seen = []
    vs.generate(network, [1, 2], most=3, allowed=lambda before: seen.append(before))
    assert [len(one) for one in seen] == [2, 3, 4]


# beams


@pytest.mark.parametrize("length_power", [0.0, 0.8])
@pytest.mark.parametrize("seed", range(4))
def test_wide_beams_find_what_exhaustive_search_finds(seed, length_power):
    network, end, most = model(5, seed), 4, 4
    every = []
    for n in range(1, most + 1):
        for tokens in itertools.product(range(5), repeat=n):
            ended = tokens[-1] == end
            if end in tokens[:-1] or (n < most and not ended):
                continue
            p = log_probabilities(network, [1, *tokens])
            every.append(
                Beam(list(tokens), float(sum(p[i, token] for i, token in enumerate(tokens))), ended)
            )
    every.sort(key=lambda beam: -beam.score(length_power))
    found = search(
        Session(network, [[1]]), Choice(), beams=5**3, most=most, end=end, length_power=length_power
    )
    assert [beam.tokens for beam in found[:5]] == [beam.tokens for beam in every[:5]]
    np.testing.assert_allclose(
        [b.log_probability for b in found[:5]], [b.log_probability for b in every[:5]], atol=1e-4
    )


def test_beams_are_never_worse_than_the_greedy_way():
    for seed in range(5):
        network = model(8, seed)
        greedy, wide = (
            vs.generate(network, [1, 2], most=6),
            vs.generate(network, [1, 2], most=6, beams=8),
        )
        assert wide.log_probability >= greedy.log_probability - 1e-5


# caches and batches


def test_with_and_without_caches_the_logits_are_equal_to_rounding():
    network, ids = model(), np.random.default_rng(0).integers(0, 12, 30).tolist()
    cached, whole = Session(network, [ids[:4]]), Session(network, [ids[:4]], cached=False)
    for token in ids[4:]:
        np.testing.assert_allclose(cached.logits(), whole.logits(), atol=2e-5)
        cached.add(np.array([token]))
        whole.add(np.array([token]))
    assert (
        vs.generate(network, ids[:4], most=40).tokens
        == vs.generate(network, ids[:4], most=40, cached=False).tokens
    )


@pytest.mark.parametrize(
    "options",
    [{}, {"temperature": 1.0, "seed": 3}, {"temperature": 1.0, "nucleus": 0.7}, {"beams": 3}],
)
@pytest.mark.parametrize("cached", [True, False])
def test_prompts_of_unequal_lengths_get_together_what_they_get_alone(options, cached):
    network, prompts = model(), [[1, 2, 3, 4, 5, 6, 7], [3], [5, 4], [1, 2, 3]]
    together = vs.generate(network, prompts, most=10, end=9, cached=cached, **options)
    alone = [
        vs.generate(network, prompt, most=10, end=9, cached=cached, **options) for prompt in prompts
    ]
    assert [one.tokens for one in together] == [one.tokens for one in alone]
    np.testing.assert_allclose(
        [one.log_probability for one in together], [one.log_probability for one in alone], atol=1e-3
    )


def test_a_seed_repeats_and_equal_prompts_get_each_their_own():
    network = model()
    first = vs.generate(network, [[1, 2]] * 4, most=12, temperature=1.0, seed=7)
    assert [a.tokens for a in first] == [
        a.tokens for a in vs.generate(network, [[1, 2]] * 4, most=12, temperature=1.0, seed=7)
    ]
    assert len({tuple(a.tokens) for a in first}) > 1
    assert [a.tokens for a in first] != [
        a.tokens for a in vs.generate(network, [[1, 2]] * 4, most=12, temperature=1.0, seed=8)
    ]


def test_log_probabilities_are_those_of_the_network():
    network = model()
    found = vs.generate(network, [1, 2, 3], most=6, temperature=1.0)
    p = log_probabilities(network, [1, 2, 3, *found.tokens])
    assert found.log_probability == pytest.approx(
        sum(p[2 + i, token] for i, token in enumerate(found.tokens)), abs=1e-3
    )


# texts

TEXTS = ["the old vines wait", "the young vines travel", "old wine waits"]


@pytest.fixture(scope="module")
def learned():
    tokeniser = vs.data.CharacterTokeniser.learned(TEXTS)
    rows = [tokeniser.encode(text, begin=True, end=True, length=26) for text in TEXTS]
    ids = np.array(rows * 8)
    network = vs.networks.LanguageModel(len(tokeniser), width=32, depth=2, heads=2)
    training = vs.Training(
        network, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.Adam(0.01), seed=1
    )
    training.run(vs.data.Dataset(ids[:, :-1], ids[:, 1:]).batches(12), epochs=60)
    return network, tokeniser


def test_a_text_that_was_learned_is_written_on_and_ended(learned):
    network, tokeniser = learned
    found = vs.generate(network, ["the o", "the y"], tokeniser=tokeniser, most=30)
    assert [one.text for one in found] == ["ld vines wait", "oung vines travel"]
    assert {one.reason for one in found} == {"end"}
    assert str(found[0]) == "ld vines wait"


def test_stop_texts_end_it_and_are_no_part_of_it(learned):
    network, tokeniser = learned
    found = vs.generate(network, "the o", tokeniser=tokeniser, stop=["vin", "zzz"])
    assert (found.text, found.reason) == ("ld ", "stop")
    assert vs.generate(network, "the o", tokeniser=tokeniser, most=3).reason == "most"
    assert vs.generate(network, "the o", tokeniser=tokeniser, stop="vin", beams=2).text == "ld "


@pytest.mark.parametrize(
    "options",
    [{}, {"stop": "vin"}, {"stop": "vinegar"}, {"most": 4}, {"temperature": 1.5, "seed": 4}],
)
def test_pieces_add_up_to_the_text(learned, options):
    network, tokeniser = learned
    pieces = list(stream(network, "the o", tokeniser=tokeniser, **options))
    whole = vs.generate(network, "the o", tokeniser=tokeniser, **options)
    assert "".join(piece.text for piece in pieces) == whole.text
    assert "vin" not in "".join(p.text for p in pieces) or options.get("stop") != "vin"


def test_half_a_character_is_held_back():
    tokeniser = vs.data.ByteTokeniser()
    network = model(len(tokeniser))
    wanted = iter([*tokeniser.encode("né é").tolist(), tokeniser.end])
    pieces = list(stream(network, "x", tokeniser=tokeniser, allowed=lambda before: [next(wanted)]))
    assert "".join(piece.text for piece in pieces) == "né é"
    assert all("\ufffd" not in piece.text for piece in pieces)


# refusals


@pytest.mark.parametrize(
    ("prompt", "options", "message"),
    [
        ([], {}, "no prompt"),
        ([[]], {}, "prompt 0 is empty"),
        ([1, 99], {}, "holds the token 99; the network knows 0 to 11"),
        ("text", {}, "give the tokeniser"),
        ([1], {"temperature": -1}, "temperature"),
        ([1], {"top_k": 0}, "top_k"),
        ([1], {"nucleus": 0}, "nucleus"),
        ([1], {"repetition": 0}, "repetition"),
        ([1], {"most": 0}, "most"),
        ([1], {"beams": 0}, "beams"),
        ([1], {"beams": 2, "temperature": 1.0}, "leave temperature at 0"),
        ([1], {"stop": "x"}, "need a tokeniser"),
        ([1], {"allowed": lambda before: []}, "at least one token"),
        ([1], {"allowed": lambda before: [40]}, "from 0 to 11"),
        ([1], {"tokeniser": vs.data.ByteTokeniser()}, "tokeniser of another model"),
    ],
)
def test_bad_input_is_refused_in_words(prompt, options, message):
    with pytest.raises(SettingError, match=message):
        vs.generate(model(), prompt, **options)


def test_a_network_without_caches_takes_equal_lengths_and_says_so():
    class Counting(vs.Layer):
        def declare(self, shape):
            self.parameter("w", (1,), vs.initialisers.ones)

        def compute(self, ids):
            return np.eye(7, dtype=np.float32)[(np.asarray(ids) + 1) % 7] * self.w

    network = Counting().initialise(np.array([[1]]))
    assert vs.generate(network, [2], most=4).tokens == [3, 4, 5, 6]
    assert [one.tokens for one in vs.generate(network, [[2], [5]], most=2)] == [[3, 4], [6, 0]]
    with pytest.raises(LayerError, match="one length at a time"):
        vs.generate(network, [[2], [5, 6]], most=2)
    with pytest.raises(SettingError, match="is a Model, not a layer"):
        vs.generate(vs.Model(network), [2])


def test_caches_that_share_memory_do_not_overwrite_one_another():
    network = model()
    ids = np.array([[1, 2, 3, 4, 5]])
    caches = network.new_caches()
    with untracked():
        network(ids, caches, None)
        network(np.array([[6]]), caches, None)
        branches = [[dict(cache) for cache in caches] for _ in range(3)]
        found = []
        for token, own in zip((7, 8, 7), branches, strict=True):
            network(np.array([[token]]), own, None)
        for token, own in zip((9, 9, 3), branches, strict=True):
            found.append(np.asarray(held(network(np.array([[token]]), own, None)))[0, -1])
        for first, second, logits in zip((7, 8, 7), (9, 9, 3), found, strict=True):
            whole = np.asarray(held(network(np.array([[*ids[0], 6, first, second]]))))[0, -1]
            np.testing.assert_allclose(logits, whole, atol=1e-4)
