"""Transforms of pictures against their plain definitions, and picture files."""

import io

import numpy as np
import pytest
import scipy.ndimage
from hypothesis import given, settings, strategies as st
from PIL import Image

import vinestep as vs
from vinestep.data import PictureFolder, Pictures, pictures
from vinestep.data.batches._counter_rng import CounterRandom
from vinestep.data.sources._source import Subset
from vinestep.errors import DataError, SettingError

RANDOM = [
    pictures.Flip(True, True),
    pictures.Shift(3),
    pictures.Crop(5),
    pictures.Rotate(30),
    pictures.Zoom(),
    pictures.Perspective(),
    pictures.Brightness(0.4),
    pictures.Contrast(0.4),
    pictures.Saturation(0.4),
    pictures.Hue(40),
    pictures.Blur(2),
    pictures.Noise(),
    pictures.CutOut(3),
]
FIXED = [
    pictures.Resize(5),
    pictures.Resize((9, 4), "cubic"),
    pictures.Fit(6),
    pictures.CentreByMass(),
    pictures.Grey(),
    pictures.Range(-1, 1),
]


@pytest.mark.parametrize("transform", [*RANDOM, *FIXED], ids=lambda t: type(t).__name__)
@pytest.mark.parametrize("dtype", [np.uint8, np.float32])
def test_examples_are_treated_alike_alone_and_together_and_stay_in_range(transform, dtype, rng):
    x = rng.random((6, 8, 7, 3))
    x = (x * 255).astype(dtype) if dtype is np.uint8 else x.astype(dtype)
    kept = x.copy()
    index = np.arange(10, 16)
    whole = transform(x, CounterRandom(1, 2, index))
    for i in range(6):
        np.testing.assert_array_equal(
            transform(x[i : i + 1], CounterRandom(1, 2, index[i]))[0], whole[i]
        )
    np.testing.assert_array_equal(x, kept)
    if not isinstance(transform, pictures.Range):
        assert whole.dtype == dtype
        assert whole.min() >= -1e-6 - (0.2 if isinstance(transform, pictures.Resize) else 0)


@given(st.integers(1, 12), st.integers(1, 12), st.integers(1, 12), st.integers(1, 12))
def test_areas_are_means_over_areas(height, width, new_height, new_width):
    x = np.random.default_rng(height).random((1, height, width, 1))
    fine = np.repeat(np.repeat(x, new_height, axis=1), new_width, axis=2)
    expected = fine.reshape(1, new_height, height, new_width, width, 1).mean(axis=(2, 4))
    np.testing.assert_allclose(
        pictures.Resize((new_height, new_width))(x), expected, rtol=1e-4, atol=1e-6
    )


def test_cubic_gives_back_straight_lines_and_leaves_no_aliases():
    ramp = np.linspace(0, 1, 20)[None, :, None, None] * np.ones((1, 20, 20, 1))
    grown = pictures.Resize(40, "cubic")(ramp)[0, 8:-8, 5, 0]
    np.testing.assert_allclose(np.diff(grown, 2), 0, atol=1e-4)
    checks = (np.indices((64, 64)).sum(axis=0) % 2)[None, :, :, None].astype(float)
    for method in ("area", "cubic"):
        assert np.ptp(pictures.Resize(9, method)(checks)[0, 2:-2, 2:-2]) < 0.2


def test_rotation_and_zoom_are_those_of_scipy(rng):
    x = scipy.ndimage.gaussian_filter(rng.random((1, 41, 41, 1)), (0, 2, 2, 0))
    angle = float(CounterRandom(0, 0, [3]).uniform(-25, 25)[0])
    ours = pictures.Rotate(25)(x, CounterRandom(0, 0, [3]))[0, 8:-8, 8:-8, 0]
    theirs = scipy.ndimage.rotate(x[0, :, :, 0], angle, reshape=False, order=1)[8:-8, 8:-8]
    mirrored = scipy.ndimage.rotate(x[0, :, :, 0], -angle, reshape=False, order=1)[8:-8, 8:-8]
    assert min(np.abs(ours - theirs).max(), np.abs(ours - mirrored).max()) < 1e-3
    factor = float(np.exp(CounterRandom(0, 0, [3]).uniform(np.log(0.8), np.log(1.25))[0]))
    matrix = np.eye(2) / factor
    theirs = scipy.ndimage.affine_transform(
        x[0, :, :, 0], matrix, offset=20 - matrix @ [20, 20], order=1
    )
    np.testing.assert_allclose(
        pictures.Zoom()(x, CounterRandom(0, 0, [3]))[0, 8:-8, 8:-8, 0],
        theirs[8:-8, 8:-8],
        atol=1e-3,
    )


def test_mass_comes_to_the_middle():
    x = np.zeros((2, 9, 9, 1))
    x[0, 1:3, 6:8] = 1
    moved = pictures.CentreByMass()(x)
    assert np.abs(np.array(scipy.ndimage.center_of_mass(moved[0, :, :, 0])) - 4).max() <= 0.5
    assert not moved[1].any()


def test_mixed_examples_have_mixed_labels(rng):
    data = vs.data.Dataset(rng.random((6, 4, 4, 3)).astype(np.float32), np.arange(6) % 3)
    (batch,) = data.batches(6, shuffled=False, augment=pictures.Mix(3)).epoch(0)
    share = CounterRandom(0, 0, np.arange(6)).for_purpose(0).beta(0.2).astype(np.float32)
    np.testing.assert_allclose(batch.targets.sum(axis=1), 1, rtol=1e-6)
    np.testing.assert_allclose(
        batch.inputs[1], share[1] * data.inputs[1] + (1 - share[1]) * data.inputs[0], rtol=1e-5
    )
    training = vs.Training(vs.Stack(vs.Flatten(), vs.Dense(3)), loss=vs.losses.cross_entropy)
    training.run(data.batches(3, augment=pictures.Mix(3)), epochs=1)


def test_pictures_scaled_twice_are_noticed():
    ready = pictures.Range(-1, 1)(np.full((1, 2, 2, 3), 3, np.uint8))
    with pytest.raises(DataError, match="scaled already"):
        pictures.Range()(ready)


@pytest.mark.parametrize(
    "make",
    [
        lambda: pictures.Resize(0),
        lambda: pictures.Zoom(0, 1),
        lambda: pictures.Range(1, 0),
        lambda: pictures.Mix(3, 0),
    ],
)
def test_impossible_settings_are_refused(make):
    with pytest.raises(SettingError):
        make()


# files


@pytest.fixture
def folder(tmp_path, rng):
    for name in ("chlorosis", "healthy"):
        (tmp_path / name).mkdir()
        for i in range(4):
            size = (int(rng.integers(8, 20)), int(rng.integers(8, 20)))
            Image.fromarray(rng.integers(0, 255, (*size, 3), np.uint8)).save(
                tmp_path / name / f"{i}.png"
            )
    return tmp_path


def test_from_a_folder_to_a_model_that_prepares_photographs_as_training_did(folder, tmp_path):
    source = PictureFolder(folder)
    assert source.class_names == ("chlorosis", "healthy")
    prepared = source.prepared(pictures.Fit(12), pictures.Range(-1, 1))
    train, validation = prepared.split(0.5, 0.5, stratified=True)
    network = vs.Stack(vs.Convolution(4, 3), vs.relu, vs.Flatten(), vs.Dense(2))
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.run(
        train.batches(2, readers=2, augment=pictures.Flip()),
        validation=validation.batches(4),
        epochs=2,
    )
    model = vs.open_model(training.model().save(tmp_path / "leaves.vine"))
    raw = [source[i][0] for i in range(len(source))]
    np.testing.assert_allclose(
        model.outputs(model.codec.inputs(raw)[1]), training.outputs(prepared), rtol=1e-4, atol=1e-5
    )
    assert set(model.predict(raw)["predicted"]) <= {"chlorosis", "healthy"}


def test_damaged_files_are_named_and_skipped_only_when_asked(folder):
    (folder / "healthy" / "broken.jpg").write_bytes(b"no picture at all")
    source = PictureFolder(folder)
    with pytest.raises(DataError, match=r"broken\.jpg.*damaged="):
        list(source.prepared(pictures.Resize(4)).batches(3))
    assert len(PictureFolder(folder, damaged="skip")) == 8


def test_a_picture_that_would_fill_the_memory_is_refused(tmp_path):
    room = io.BytesIO()
    Image.new("1", (12_000, 12_000)).save(room, "png")
    (tmp_path / "bomb.png").write_bytes(room.getvalue())
    with pytest.raises(DataError, match="12000 by 12000 pixels"):
        Pictures([tmp_path / "bomb.png"])[0]


def test_the_same_picture_in_two_parts_is_noticed(folder, tmp_path):
    other = tmp_path / "other" / "healthy"
    other.mkdir(parents=True)
    for i in (1, 2):
        (other / f"x{i}.png").write_bytes((folder / "healthy" / f"{i}.png").read_bytes())
    train = PictureFolder(folder, class_values=["chlorosis", "healthy", "other"])
    part = train.like(tmp_path / "other")
    assert train.shared_rows(part) == 2


def test_a_folder_without_pictures_or_with_another_class_is_refused(folder, tmp_path):
    with pytest.raises(DataError, match="none of the classes"):
        PictureFolder(folder, class_values=["healthy"])
    (tmp_path / "empty").mkdir()
    with pytest.raises(DataError, match="no subfolder"):
        PictureFolder(tmp_path / "empty")


@settings(max_examples=20)
@given(st.binary(max_size=60))
def test_bytes_that_are_no_picture_are_an_error_in_words(tmp_path_factory, data):
    file = tmp_path_factory.mktemp("p") / "x.png"
    file.write_bytes(data)
    with pytest.raises(DataError, match=r"x\.png"):
        Pictures([file])[0]


def test_a_text_file_with_a_wrong_byte_names_it(tmp_path):
    (tmp_path / "a.txt").write_bytes(b"racked\ntank \xff 12")
    with pytest.raises(DataError, match=r"byte 12 \(0xff, in line 2\)"):
        vs.data.TextFiles(tmp_path)[0]
    (tmp_path / "a.txt").write_bytes("\ufeffracked".encode())
    assert vs.data.TextFiles(tmp_path)[0][0] == "racked"


def test_arrays_in_files(tmp_path, rng):
    x, y = rng.normal(size=(10, 3)).astype(np.float32), rng.integers(0, 2, 10)
    np.savez(tmp_path / "vines.npz", inputs=x, targets=y)
    np.save(tmp_path / "inputs.npy", x)
    np.save(tmp_path / "targets.npy", y)
    zipped, mapped = vs.data.arrays(tmp_path / "vines.npz"), vs.data.arrays(tmp_path)
    assert zipped.fingerprint() == mapped.fingerprint()
    parts = mapped.split(0.5, 0.5)
    assert isinstance(parts[0], Subset)
    assert parts[0].shared_rows(parts[1]) == 0
    np.testing.assert_array_equal(
        next(iter(parts[0].batches(5, shuffled=False))).inputs, x[np.sort(parts[0].provenance.rows)]
    )
    with pytest.raises(DataError, match="no array 'label'"):
        vs.data.arrays(tmp_path / "vines.npz", targets="label")
    (tmp_path / "bad.npz").write_bytes(b"PK\x03\x04 nothing")
    with pytest.raises(DataError, match=r"bad\.npz"):
        vs.data.arrays(tmp_path / "bad.npz")
