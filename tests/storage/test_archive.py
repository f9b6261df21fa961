import io
import pickle
import zipfile
from pathlib import Path

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import ArchiveError
from vinestep.storage import archive

ARRAYS = {
    "weights/0/weight": np.arange(6.0).reshape(2, 3),
    "optimiser/m": np.zeros(4, np.float32),
    "empty": np.zeros((0, 3)),
}


@pytest.fixture
def file(tmp_path):
    return archive.write(tmp_path / "step-00000005.npz", ARRAYS, {"step": 5, "loss": 0.1 + 0.2})


def test_what_is_written_is_read(file):
    found = archive.read(file)
    assert found.meta["loss"] == 0.1 + 0.2
    assert all(
        np.array_equal(found.arrays[k], v) and found.arrays[k].dtype == v.dtype
        for k, v in ARRAYS.items()
    )
    assert list(found.group("weights")) == ["0/weight"]
    assert np.load(file, allow_pickle=False)["optimiser/m"].shape == (4,)
    assert [p.name for p in file.parent.iterdir()] == [file.name]


def test_every_cut_and_every_flipped_bit_is_refused(file):
    content = file.read_bytes()
    rng = np.random.default_rng(0)
    for length in [0, 1, 50, len(content) // 2, len(content) - 1]:
        file.write_bytes(content[:length])
        with pytest.raises(ArchiveError, match="step-00000005.npz: refused: .*cut short"):
            archive.read(file)
    for position in rng.integers(2, len(content), 300):
        damaged = bytearray(content)
        damaged[position] ^= 1 << int(rng.integers(8))
        file.write_bytes(damaged)
        with pytest.raises(ArchiveError, match="step-00000005.npz: refused"):
            archive.read(file)


class Trap:
    def __reduce__(self):
        return Path.touch, (Path("sprung"),)


@pytest.mark.parametrize("kind", ["object array", "pickle member"])
def test_a_pickle_is_refused_unread(tmp_path, monkeypatch, kind):
    monkeypatch.chdir(tmp_path)
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as packed:
        if kind == "object array":
            member = io.BytesIO()
            np.lib.format.write_array(member, np.array([Trap()], dtype=object), allow_pickle=True)
            packed.writestr("weights/0.npy", member.getvalue())
        else:
            packed.writestr("weights.pkl", pickle.dumps(Trap()))
        packed.writestr(archive.META, '{"format": 1}')
        packed.comment = b"0" * 64
    body = buffer.getvalue()[:-64]
    import hashlib

    bad = tmp_path / "bad.npz"
    bad.write_bytes(body + hashlib.sha256(body).hexdigest().encode())
    with pytest.raises(ArchiveError, match="refused"):
        archive.read(bad)
    assert not Path("sprung").exists()


def test_objects_are_not_written_and_what_was_there_stays(file):
    before = file.read_bytes()
    with pytest.raises(ArchiveError, match="holds Python objects"):
        archive.write(file, {"a": np.array([None])}, {})
    assert file.read_bytes() == before


def test_a_full_disk_leaves_the_earlier_checkpoint(file, monkeypatch):
    before = file.read_bytes()
    monkeypatch.setattr(
        archive.os,
        "replace",
        lambda *a: (_ for _ in ()).throw(OSError(28, "No space left on device")),
    )
    with pytest.raises(
        ArchiveError, match="No space left on device. What was there before is untouched"
    ):
        archive.write(file, ARRAYS, {"step": 6})
    assert file.read_bytes() == before
    assert len(list(file.parent.iterdir())) == 1


def test_the_newest_sound_one_is_used_and_the_others_are_named(tmp_path):
    folder = vs.runs.RunFolder(tmp_path)
    (tmp_path / "states").mkdir()
    for step in (1, 2, 10):
        folder.save_state(f"step-{step:08d}", ARRAYS, {"step": step})
    newest = tmp_path / "states" / "step-00000010.npz"
    newest.write_bytes(newest.read_bytes()[:-100])
    found, refused = folder.newest_state()
    assert found.meta["step"] == 2
    assert len(refused) == 1
    assert "step-00000010.npz: refused" in refused[0]
    for file in (tmp_path / "states").iterdir():
        file.write_bytes(b"PK")
    with pytest.raises(ArchiveError, match="there is no sound state to continue from"):
        folder.newest_state()
