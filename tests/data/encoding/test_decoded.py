"""Rows that features stand for: the counterpart of encoding."""

import numpy as np
import pandas as pd

import vinestep as vs


def test_what_was_encoded_is_decoded_again():
    rng = np.random.default_rng(0)
    n = 60
    frame = pd.DataFrame(
        {
            "sugar": rng.normal(20, 4, n).round(2),
            "acid": np.where(rng.random(n) < 0.1, np.nan, rng.normal(6, 1, n)),
            "press": rng.choice(["old", "new"], n),
            "side": np.where(rng.random(n) < 0.2, None, rng.choice(["east", "west"], n)),
            "grade": rng.choice(["low", "mid", "high"], n),
            "day": pd.to_datetime("2026-09-01") + pd.to_timedelta(rng.integers(0, 40, n), "D"),
            "state": rng.choice(["a", "b"], n),
        }
    )
    table = vs.data.Table(
        frame, target="state", ordered={"grade": ["low", "mid", "high"]}, dates=["day"]
    )
    (scaled,) = vs.data.scaled(table)
    back = scaled.encoding.decode(scaled.inputs, scaled.scaling)
    assert set(back) == set(frame) - {"state"}
    assert np.allclose(back["sugar"], frame["sugar"], atol=1e-4)
    assert np.array_equal(back["acid"].isna(), frame["acid"].isna())
    known = frame["acid"].notna()
    assert np.allclose(back["acid"][known], frame["acid"][known], atol=1e-4)
    for column in ("press", "grade"):
        assert back[column].tolist() == frame[column].tolist()
    assert back["side"].isna().tolist() == frame["side"].isna().tolist()
    assert back["side"].dropna().tolist() == frame["side"].dropna().tolist()
    apart = (back["day"] - frame["day"]).abs().dt.total_seconds()
    assert (apart < 600).all()


def test_pictures_are_given_back_as_they_were_before_they_were_prepared():
    x = np.random.default_rng(0).integers(0, 255, (3, 4, 4, 3)).astype(np.uint8)
    for transforms in (
        [vs.data.pictures.Range(-1, 1)],
        [vs.data.pictures.Range(), vs.data.pictures.Normalise([0.5] * 3, [0.25] * 3)],
    ):
        y = x
        for transform in transforms:
            y = transform(y)
        for transform in reversed(transforms):
            y = transform.inverse(y)
        assert np.allclose(y, x / 255, atol=1e-6)
