"""Networks that read before they write: caches, batches, beams, error rates, models."""

import itertools

import numpy as np
import pytest

import vinestep as vs
from vinestep import held, untracked
from vinestep.data.encoding._codec import Codec
from vinestep.errors import DataError, ModelError, SettingError
from vinestep.generation import TextScores
from vinestep.generation._sampling import log_softmax

TOKENISER = vs.data.CharacterTokeniser.learned(["abcde"])


def network(tied=False, seed=0):
    made = vs.networks.EncoderDecoder(
        len(TOKENISER), len(TOKENISER), width=16, depth=2, heads=2, tied=tied
    )
    made.initialise((np.array([[4, 5]]), np.array([[1, 4]])), seed=seed)
    return made.load(
        {path: w * (4 if path == "head/weight" else 1) for path, w in made.weights().items()}
    )


SOURCES = ["abc", "e", "ddabe", "cc"]


@pytest.mark.parametrize("tied", [False, True])
def test_with_caches_in_a_batch_and_alone_it_writes_the_same(tied):
    made = network(tied)
    together = vs.generate(made, given=SOURCES, tokeniser=TOKENISER, most=9)
    for source, found in zip(SOURCES, together, strict=True):
        for options in ({}, {"cached": False}, {"beams": 1}):
            alone = vs.generate(made, given=source, tokeniser=TOKENISER, most=9, **options)
            assert alone.tokens == found.tokens
            assert alone.log_probability == pytest.approx(found.log_probability, abs=1e-4)


def test_beams_agree_with_exhaustive_search():
    made, end, vocabulary, most = network(seed=2), TOKENISER.end, range(2, 9), 3
    ids = np.array([TOKENISER.encode("abc", end=True)])

    def total(tokens):
        with untracked():
            p = log_softmax(np.asarray(held(made(ids, np.array([[1, *tokens]]))), np.float64)[0])
        return sum(p[i, token] for i, token in enumerate(tokens))

    whole = [
        list(tokens)
        for n in range(1, most + 1)
        for tokens in itertools.product(vocabulary, repeat=n)
        if end not in tokens[:-1] and (tokens[-1] == end or n == most)
    ]
    best = max(whole, key=total)
    found = vs.generate(
        made,
        given="abc",
        tokeniser=TOKENISER,
        most=most,
        beams=400,
        allowed=lambda tokens: list(vocabulary),
    )
    assert found.tokens == [token for token in best if token != end]
    assert found.log_probability == pytest.approx(total(best), abs=1e-3)


def test_drawn_texts_depend_on_seed_and_not_on_their_neighbours():
    made = network()
    options = {"tokeniser": TOKENISER, "most": 8, "temperature": 1.0, "nucleus": 0.9}
    first = vs.generate(made, given=["abc", "e"], seed=5, **options)
    assert [one.tokens for one in vs.generate(made, given=["abc", "e"], seed=5, **options)] == [
        one.tokens for one in first
    ]
    for source, found in zip(["abc", "e"], first, strict=True):
        assert vs.generate(made, given=source, seed=5, **options).tokens == found.tokens
    assert any(
        vs.generate(made, given="abc", seed=k, **options).tokens != first[0].tokens
        for k in range(5)
    )


def reversed_pairs(n, seed=0):
    rng = np.random.default_rng(seed)
    texts = ["".join(rng.choice(list("abcde"), rng.integers(1, 5))) for _ in range(n)]
    return vs.data.Pairs(texts, [text[::-1] for text in texts], TOKENISER)


def test_trained_by_teacher_forcing_it_turns_texts_round_and_is_handed_on(tmp_path):
    train, validation = reversed_pairs(800), reversed_pairs(60, seed=1)
    made = vs.networks.EncoderDecoder(len(TOKENISER), len(TOKENISER), width=32, depth=1, heads=4)
    training = vs.Training(
        made, loss=vs.losses.next_token, optimiser=vs.optimisers.Adam(4e-3), clip=1.0, seed=3
    )
    outcome = training.run(
        train.batches(32),
        validation={"validation": validation.batches(60), "texts": TextScores(validation, most=8)},
        epochs=24,
    )
    last = outcome.curves.iloc[-1]
    assert last["texts_character_error_rate"] < 0.05
    assert last["texts_right"] > 0.9
    assert outcome.curves["texts_character_error_rate"].iloc[0] > 0.3
    file = training.model().save(tmp_path / "turned.vine")
    model = vs.open_model(file)
    assert "texts, and writes" in repr(model)
    assert [one.text for one in model.generate(["abcd", "ea"], most=8)] == ["dcba", "ae"]
    with pytest.raises(DataError, match=r"knows no 'z', at 1 of 'az'"):
        model.generate("az")
    other = vs.data.CharacterTokeniser.learned(["vwxyz"])
    with pytest.raises(
        ModelError,
        match=r"<CharacterTokeniser of 9 tokens> \([0-9a-f]{12}\) is the tokeniser of "
        "another model; this one has",
    ):
        model.generate("ab", tokeniser=other)
    with pytest.raises(ModelError, match=r"use model.generate"):
        model.predict(["ab"])
    content = bytearray(file.read_bytes())
    content[len(content) // 2] ^= 1
    file.write_bytes(content)
    with pytest.raises(vs.errors.ArchiveError):
        vs.open_model(file)


def test_what_is_read_is_asked_for_and_fits():
    made = network()
    for call, told in (
        (lambda: vs.generate(made, "ab", tokeniser=TOKENISER), "reads before it writes"),
        (
            lambda: vs.generate(made, given=["ab", "c"], prompts=["a"], tokeniser=TOKENISER),
            "2 were given to be read, and 1 prompts",
        ),
        (lambda: vs.generate(made, given=[], tokeniser=TOKENISER), "nothing to be read"),
        (lambda: vs.generate(made, given="ab"), "give the tokeniser"),
    ):
        with pytest.raises(SettingError, match=told):
            call()
    language = vs.networks.LanguageModel(9, width=8, depth=1, heads=2).initialise(
        np.array([[1, 2]])
    )
    with pytest.raises(SettingError, match="reads nothing before it writes"):
        vs.generate(language, given="ab", tokeniser=TOKENISER)


# models that only write


def trained_on(source, **options):
    model = vs.networks.LanguageModel(len(source.tokeniser), width=32, depth=1, heads=2, **options)
    training = vs.Training(
        model, loss=vs.losses.next_token, optimiser=vs.optimisers.Adam(1e-2), seed=1
    )
    training.run(source.batches(8), epochs=12)
    return training.model()


def test_a_model_with_a_template_answers_by_fields(tmp_path):
    rows = [{"entry": a, "sentence": f"<{a}>"} for a in "abcde" * 8]
    tokeniser = vs.data.CharacterTokeniser.learned(["abcde<>:."])
    source = vs.data.Requests(rows, vs.data.Template("{entry}:{sentence}."), tokeniser)
    model = vs.open_model(trained_on(source).save(tmp_path / "answers.vine"))
    assert model.generate({"entry": "c"}).text == "<c>" == model.generate("c").text
    assert [one.text for one in model.generate([{"entry": "a"}, {"entry": "e"}])] == ["<a>", "<e>"]
    assert TextScores(source, n=5)(model.network)["right"] == 1
    with pytest.raises(DataError, match="the field 'entry' is missing"):
        model.generate({"sentence": "x"})


@pytest.mark.parametrize("positions", ["learned", "sine"])
def test_places_are_counted_from_the_begin_of_each_prompt(positions):
    model = vs.networks.LanguageModel(
        12, width=16, depth=2, heads=2, positions=positions, longest=16
    ).initialise(np.array([[1, 2]]), seed=4)
    prompts = [[1, 2, 3, 4, 5], [6], [7, 8]]
    together = vs.generate(model, prompts, most=7)
    for prompt, found in zip(prompts, together, strict=True):
        assert (
            vs.generate(model, prompt, most=7).tokens
            == found.tokens
            == vs.generate(model, prompt, most=7, cached=False).tokens
        )


def test_a_text_ends_where_positions_end_and_a_longer_prompt_is_refused():
    model = vs.networks.LanguageModel(
        12, width=16, depth=1, heads=2, positions="learned", longest=6
    ).initialise(np.array([[1, 2]]))
    found = vs.generate(model, [[1, 2, 3], [4]], most=50)
    assert [(len(one.tokens), one.reason) for one in found] == [(4, "full"), (6, "full")]
    assert vs.generate(model, [1, 2, 3], most=50, beams=3).reason == "full"
    assert len(list(vs.generation.stream(model, [1, 2, 3], most=50))) == 4
    with pytest.raises(
        SettingError, match=r"prompt 1 has 7 tokens, and the network has positions for 6"
    ):
        vs.generate(model, [[1], list(range(1, 8))])


def test_models_say_which_layer_of_ones_own_is_missing_and_which_tokeniser(tmp_path):
    @vs.parts.part("shouting")
    class Shouting(vs.networks.LanguageModel):
        def __init__(self, tokens):
            super().__init__(tokens, width=8, depth=1, heads=2)

    made = Shouting(260).initialise(np.array([[1, 2]]))
    file = vs.Model(made, Codec(text_form=vs.data.TextForm(vs.data.ByteTokeniser()))).save(
        tmp_path / "own.vine"
    )
    with pytest.raises(ModelError, match=r"'shouting' is not known"):
        vs.open_model(file)
    assert vs.open_model(file, own=[Shouting]).generate("ab", most=2).reason in ("most", "end")
    with pytest.raises(ModelError, match="has no tokeniser"):
        vs.Model(made).generate("a")
    with pytest.raises(ModelError, match="writes no texts"):
        vs.Model(vs.Dense(2).initialise(np.ones((1, 3)))).generate("a")


def test_a_reader_of_texts_predicts_on_raw_texts(tmp_path):
    found = vs.demo.notes(60)
    tokeniser = vs.data.ByteTokeniser()
    items = [
        (tokeniser.encode(text), label)
        for text, label in zip(found.texts, found.labels, strict=True)
    ]
    source = vs.data.Examples(items)
    source.class_values, source.text_form = found.names, vs.data.TextForm(tokeniser)
    training = vs.Training(
        vs.networks.TextScorer(260, 4, width=8), loss=vs.losses.cross_entropy, seed=1
    )
    training.run(
        source.batches(
            20, join=lambda examples: vs.data.Padded()(examples).with_values(masks=None)
        ),
        epochs=1,
    )
    model = vs.open_model(training.model().save(tmp_path / "notes.vine"))
    predicted = model.predict(found.texts[:5])
    assert set(predicted["predicted"]) <= set(found.names)
    assert len(predicted) == 5
    assert len(model.predict(found.texts[0])) == 1
    with pytest.raises(DataError, match="takes texts"):
        model.predict([3])


def test_pictures_of_another_range_than_those_read_at_training_are_told(caplog):
    found = vs.demo.chalk(6)
    tokeniser = vs.data.CharacterTokeniser.learned(found.codes)
    reader = vs.networks.picture_reader(8, channels=(2, 2, 2))
    made = vs.networks.EncoderDecoder(
        None, len(tokeniser), width=8, depth=1, heads=2, reader=reader
    )
    training = vs.Training(made, loss=vs.losses.next_token, seed=1)
    training.run(vs.data.Pairs(found.pictures, found.codes, tokeniser).batches(6), epochs=1)
    training.model().generate(found.pictures * 255, most=3)
    assert "they go from 0 to 255, and those trained on from 0 to 1" in caplog.text
