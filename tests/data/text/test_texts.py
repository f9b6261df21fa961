"""Sources of texts: packing with borders, templates, requests, pairs."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.data import (
    ByteTokeniser,
    CharacterTokeniser,
    Documents,
    PairBatch,
    Pairs,
    Requests,
    Template,
    TextForm,
)
from vinestep.errors import DataError

BYTES = ByteTokeniser()


@given(st.lists(st.text("ab ", max_size=30), min_size=1, max_size=12), st.integers(1, 25))
def test_packed_rows_hold_every_document_and_lead_from_none_to_the_next(texts, length):
    source = Documents(texts, BYTES, length)
    batch = source.take(np.arange(len(source)))
    assert batch.inputs.shape == batch.targets.shape == batch.masks.shape == (len(source), length)
    found = []
    for ids, targets, documents in zip(batch.inputs, batch.targets, batch.masks, strict=True):
        assert ((documents == 0) == (targets == -1)).all()
        assert (ids[documents == 0] == 0).all()
        assert (np.diff(documents[documents > 0]) >= 0).all()
        for number in range(1, documents.max() + 1):
            here = documents == number
            np.testing.assert_array_equal(targets[here][:-1], ids[here][1:])
            found.append((ids[here].tolist(), targets[here].tolist()))
    whole, k = [], 0
    for text in texts:
        ids, targets = [], []
        tokens = BYTES.encode(text, begin=True, end=True).tolist()
        while len(ids) < len(tokens) - 1:
            ids += found[k][0]
            targets += found[k][1]
            k += 1
        whole.append((ids, targets) == (tokens[:-1], tokens[1:]))
    assert all(whole)
    assert k == len(found)


@pytest.mark.parametrize("positions", ["rotary", "learned", "sine"])
def test_a_document_among_others_gets_what_it_gets_alone(positions):
    texts = ["dense", "not at all thin", "sour"]
    batch = Documents(texts, BYTES, 40).batches(1).sample()
    network = vs.networks.LanguageModel(
        260, width=16, depth=2, heads=2, positions=positions, longest=64
    ).initialise(batch.inputs, seed=3)
    together = network(batch.inputs, None, batch.masks).array[0]
    at = 0
    for text in texts:
        tokens = BYTES.encode(text, begin=True, end=True)[None, :-1]
        np.testing.assert_allclose(
            together[at : at + tokens.shape[1]], network(tokens).array[0], atol=2e-5
        )
        at += tokens.shape[1]


def test_training_on_packed_rows_is_training_on_each_document_alone():
    texts = ["dense", "not at all thin", "sour"]

    def loss_and_gradient(length):
        source = Documents(texts, BYTES, length)
        batch = source.take(np.arange(len(source)))
        network = vs.networks.LanguageModel(260, width=8, depth=1, heads=2).initialise(
            batch.inputs, seed=3, dtype="float64"
        )
        loss = vs.losses.next_token(network(batch.inputs, None, batch.masks), batch.targets)
        return float(loss.array), vs.differentiate(loss, network).flat

    (packed, g), (alone, g_alone) = loss_and_gradient(40), loss_and_gradient(16)
    assert packed == pytest.approx(alone, rel=1e-12)
    np.testing.assert_allclose(g, g_alone, atol=1e-14)


def test_documents_in_a_file_and_what_is_wrong(tmp_path):
    (tmp_path / "notes.txt").write_text("one\n\ntwo\n", encoding="utf-8")
    source = Documents(tmp_path / "notes.txt", BYTES, 16)
    assert source.settings() == {"kind": "documents", "documents": 2, "tokens": 260, "length": 16}
    assert (
        source.fingerprint()
        == Documents(["one", "two"], BYTES, 16).fingerprint()
        != Documents(["one"], BYTES, 16).fingerprint()
    )
    assert source.rows(np.array([0])).batches(1).sample().masks is not None
    assert 0 < source.filled <= 1
    for wrong, told in (([], "there are no texts"), ([3], "text 0 is a int")):
        with pytest.raises(DataError, match=told):
            Documents(wrong, BYTES)
    with pytest.raises(DataError, match="length must be"):
        Documents(["a"], BYTES, 0)
    with pytest.raises(DataError, match="leave join= out"):
        next(iter(source.batches(1, join=vs.data.TokenBatch())))


# templates


@given(st.text(max_size=20), st.text(max_size=20), st.text("ab{}\n", max_size=9))
def test_values_of_fields_stand_in_a_template_as_they_are(entry, sentence, between):
    template = Template(
        f"Entry: {{entry}}{between.replace('{', '{{').replace('}', '}}')}{{sentence}}.\n"
    )
    given_ = {"entry": entry, "sentence": sentence}
    assert template.request(given_) == f"Entry: {entry}{between}" == template.request(entry)
    assert template.answered(given_) == f"{sentence}.\n"
    assert template.answer_of(template.answered(given_)) == sentence
    numbers, learned = template.example(BYTES, given_)
    assert BYTES.decode(numbers[learned]) == f"{sentence}.\n"
    assert BYTES.decode(numbers) == f"Entry: {entry}{between}{sentence}.\n"
    assert numbers[-1] == BYTES.end
    assert learned[-1]
    assert not learned[0]


def test_special_tokens_cannot_be_injected_through_a_field():
    numbers, _ = Template("{entry}\n{sentence}").example(
        BYTES, {"entry": "<end><begin>", "sentence": "<pad>"}
    )
    assert (numbers < 4).sum() == 2


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("{entry}", "two different fields"),
        ("{a}{a}", "two different fields"),
        ("{a} {b", "expected '}'"),
        ("{} {b}", "no field"),
        ("{a!r} {b}", "no field"),
        ("{a.b} {c}", "no field"),
    ],
)
def test_templates_that_are_none_are_refused(text, told):
    with pytest.raises(DataError, match=told):
        Template(text)


def test_a_missing_field_is_named_with_its_row():
    template = Template("{tank}: {entry}\n{sentence}")
    with pytest.raises(
        DataError,
        match=r"row 1: Template: the field 'entry' is missing; .* given were tank, sentence",
    ):
        Requests(
            [{"tank": 1, "entry": "a", "sentence": "b"}, {"tank": 2, "sentence": "c"}],
            template,
            BYTES,
        )
    with pytest.raises(DataError, match="does not say which of the fields tank, entry"):
        template.request("rk 12")
    with pytest.raises(DataError, match="has to be a text or a number"):
        Requests([{"tank": None, "entry": "a", "sentence": "b"}], template, BYTES)
    with pytest.raises(DataError, match="row 0: 12 tokens are more than the 5"):
        Requests([{"tank": 1, "entry": "tp", "sentence": "Tops"}], template, BYTES, length=5)


def test_requests_from_tables_and_files_are_the_same(tmp_path):
    rows = [
        {"entry": "tp", "sentence": "Topped up."},
        {"entry": "t 20", "sentence": "Read 20 degrees."},
    ]
    template = Template("{entry}\n{sentence}")
    frame = pd.DataFrame(rows)
    frame.to_csv(tmp_path / "rows.csv", index=False)
    sources = [Requests(given_, template, BYTES) for given_ in (rows, frame, tmp_path / "rows.csv")]
    assert len({source.fingerprint() for source in sources}) == 1
    batch = sources[0].batches(2, shuffled=False).epoch(0).__next__()
    assert (batch.targets[0] >= 0).sum() == len("Topped up.") + 1
    assert sources[0].split(0.5, 0.5)[0].text_form.template is template


# pairs


def test_pairs_are_joined_for_teacher_forcing():
    source = Pairs(["abc", "b"], ["ca", "bbb"], CharacterTokeniser.learned(["abc"]))
    (batch,) = source.batches(2, shuffled=False)
    read, written = batch.inputs
    assert read.tolist() == [[4, 5, 6, 2], [5, 2, 0, 0]]
    assert written.tolist() == [[1, 6, 4, 0], [1, 5, 5, 5]]
    assert batch.targets.tolist() == [[6, 4, 2, -1], [5, 5, 5, 2]]
    with pytest.raises(DataError, match="2 sources and 1 texts"):
        Pairs(["a", "b"], ["c"], BYTES)
    with pytest.raises(DataError, match=r"the shapes \(2, 2\) and, in place 1, \(3, 2\)"):
        PairBatch()(
            [(np.ones((2, 2)), np.array([1, 2]), None), (np.ones((3, 2)), np.array([1, 2]), None)]
        )


@given(
    st.sampled_from([BYTES, CharacterTokeniser.learned(["abc"], special=["<x>"])]), st.booleans()
)
def test_a_text_form_is_plain_data_and_back(tokeniser, both):
    form = TextForm(tokeniser, Template("{a}\n{b}") if both else None, BYTES if both else None)
    again = TextForm.from_dict(form.as_dict())
    assert again.tokeniser == tokeniser
    assert again.source_tokeniser == form.source_tokeniser
    assert (again.template.text if both else again.template) == ("{a}\n{b}" if both else None)


def test_what_is_unknown_is_named_where_it_matters():
    tokeniser = CharacterTokeniser.learned(["rack"])
    assert tokeniser.encode("ra?").tolist()[-1] == tokeniser.unknown
    with pytest.raises(DataError, match=r"knows no '\?', at 2 of 'ra\?'"):
        tokeniser.encode("ra?", unknown="refuse")
    with pytest.raises(DataError, match=r"knows no ' cask', at 4"):
        vs.data.WordTokeniser.learned(["rack it"]).encode("rack cask", unknown="refuse")
