"""Transforms know what black and white are, targets turn with their inputs, and files keep their
range or are refused.
"""

import os

import numpy as np
import pytest
from PIL import Image

import vinestep as vs
from vinestep.data.batches._counter_rng import CounterRandom
from vinestep.errors import DataError

p = vs.data.pictures
BYTES = np.random.default_rng(0).integers(0, 256, (12, 8, 8, 3)).astype(np.uint8)
TONES = {
    "brightness": p.Brightness(0.4),
    "contrast": p.Contrast(0.5),
    "saturation": p.Saturation(0.5),
    "hue": p.Hue(30),
    "noise": p.Noise(0.1),
}
SCALES = {
    "0 to 1": p.Range(),
    "-1 to 1": p.Range(-1, 1),
    "0 to 255": p.Range(0, 255),
    "normalised": p.Range().then(p.Normalise([0.4, 0.5, 0.6], [0.2, 0.3, 0.1])),
    "normalised bytes": p.Normalise([100.0, 120.0, 140.0], [50.0, 60.0, 70.0]),
}


def augmented(source, *transforms):
    return next(
        iter(source.batches(12, shuffled=False, augment=transforms).epoch(3, seed=5))
    ).inputs


@pytest.mark.parametrize("scale", SCALES)
@pytest.mark.parametrize("tone", TONES)
def test_a_tone_before_and_after_scaling_is_the_same(tone, scale):
    source = vs.data.Dataset(BYTES, np.arange(12))
    unit = augmented(source.prepared(p.Range()), TONES[tone])
    if scale == "normalised bytes":
        wanted = SCALES[scale](unit * 255)
    else:
        wanted = SCALES[scale](unit)
    found = augmented(source.prepared(SCALES[scale]), TONES[tone])
    size = np.abs(wanted).max()
    np.testing.assert_allclose(found, wanted, atol=2e-6 * size)


@pytest.mark.parametrize("tone", TONES)
def test_a_scale_among_the_augmentations_counts(tone):
    source = vs.data.Dataset(BYTES, np.arange(12)).prepared(p.Range())
    after = augmented(source, p.Normalise(0.5, 0.25), TONES[tone])
    chained = augmented(source, p.Normalise(0.5, 0.25).then(p.Flip(False)), TONES[tone])
    assert after.min() >= -2 - 1e-5
    assert after.min() < -0.5
    assert chained.min() < -0.5


@pytest.mark.parametrize("tone", TONES)
def test_floats_of_an_unknown_range_are_refused(tone):
    draws = CounterRandom(0, 0, np.arange(12))
    for x in (BYTES.astype(np.float32), BYTES / 127.5 - 1):
        with pytest.raises(DataError, match="floats from 0 to 1 are wanted"):
            TONES[tone](x, draws)


PLACED = [p.Flip(True, True), p.Shift(2), p.Crop(6), p.Rotate(40), p.Zoom(0.6, 1.5)]
PLACED += [p.Perspective(0.4)]


@pytest.mark.parametrize("transform", PLACED, ids=lambda t: type(t).__name__)
@pytest.mark.parametrize("kind", ["mask", "mask with channel", "picture"])
def test_targets_that_are_pictures_turn_with_their_inputs(transform, kind):
    rng = np.random.default_rng(1)
    labels = np.kron(rng.integers(0, 4, (6, 3, 3)), np.ones((4, 4), int))
    inputs = np.stack([labels == k for k in range(4)], axis=-1).astype(np.float32)
    targets = {
        "mask": labels,
        "mask with channel": labels[..., None],
        "picture": inputs,
    }[kind]
    data = vs.data.Dataset(inputs, targets)
    batch = next(iter(data.batches(6, shuffled=False, augment=transform).epoch(0, seed=2)))
    if kind == "picture":
        np.testing.assert_array_equal(batch.targets, batch.inputs)
        return
    found = np.asarray(batch.targets).reshape(batch.inputs.shape[:3])
    assert found.dtype.kind in "iu"
    sure = batch.inputs.max(axis=-1) > 0.9
    assert sure.mean() > 0.2
    np.testing.assert_array_equal(batch.inputs.argmax(axis=-1)[sure], found[sure])


def test_other_targets_stay():
    data = vs.data.Dataset(BYTES, np.arange(12))
    batch = next(iter(data.batches(12, shuffled=False, augment=p.Flip()).epoch(0)))
    np.testing.assert_array_equal(batch.targets, np.arange(12))


def test_grey_values_of_16_bits_keep_their_range(tmp_path):
    values = np.array([[0, 257], [32_896, 65_535]], np.uint16)
    Image.fromarray(values).save(tmp_path / "deep.png")
    Image.fromarray(values).save(tmp_path / "deep.tif")
    for name in ("deep.png", "deep.tif"):
        for channels, shape in (("L", (2, 2, 1)), ("RGB", (2, 2, 3)), ("RGBA", (2, 2, 4))):
            picture, _ = vs.data.Pictures([tmp_path / name], [0], channels=channels)[0]
            assert picture.shape == shape
            np.testing.assert_array_equal(picture[..., 0], [[0, 1], [128, 255]])


@pytest.mark.parametrize("dtype", [np.int32, np.float32])
def test_values_without_a_white_are_refused(tmp_path, dtype):
    Image.fromarray(np.array([[0, 70_000], [-5, 3]], dtype)).save(tmp_path / "deep.tif")
    with pytest.raises(DataError, match="of which nobody says what white is"):
        vs.data.Pictures([tmp_path / "deep.tif"], [0], channels="L")[0]


def test_pipes_and_devices_are_refused_and_not_waited_for(tmp_path):
    folder = tmp_path / "leaves" / "healthy"
    folder.mkdir(parents=True)
    os.mkfifo(folder / "a.png")
    Image.new("RGB", (4, 4)).save(folder / "b.png")
    assert len(vs.data.PictureFolder(tmp_path / "leaves")) == 1
    for file in (folder / "a.png", "/dev/zero"):
        with pytest.raises(DataError, match="a pipe or a device"):
            vs.data.Pictures([file], [0])[0]
