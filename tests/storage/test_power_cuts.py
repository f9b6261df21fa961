"""A power cut at any moment: what was not synced is lost, and the run goes on to equal bits."""

import builtins
import io
import itertools
import logging
import os
import random
from pathlib import Path

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import CheckpointError
from vinestep.storage import archive

CUTS = 16
KILLS = 10
EVERY_WRITE = "VINESTEP_TEST_EVERY_WRITE" in os.environ


class Disk:
    """What a disk is sure to hold: contents since their last sync, and names since the last sync of
    their folder.

    Every change under `root` is an event. After an event `image` writes what a cut would leave: of
    the names that changed since the folder's sync the first few, drawn at random; of contents that
    were never synced nothing, or a part.
    """

    def __init__(self, root, patch):
        self.root, self.events, self.at_event = Path(root), 0, lambda: None
        self.numbers = itertools.count()
        self.ids, self.contents, self.pending = (
            {},
            {},
            {},
        )  # a number of an inode is given to another file when it is free
        self.names = {self.new(self.root): {}}
        self.open, self.replace, self.rename, self.unlink = (
            builtins.open,
            os.replace,
            os.rename,
            os.unlink,
        )
        self.mkdir, self.fsync = os.mkdir, os.fsync
        for name in ("replace", "rename", "unlink", "mkdir", "fsync"):
            patch.setattr(os, name, getattr(self, f"_{name}"))
        patch.setattr(builtins, "open", self._open)
        patch.setattr(io, "open", self._open)

    def mine(self, path):
        return isinstance(path, str | os.PathLike) and str(path).startswith(str(self.root))

    def new(self, path):
        self.ids[os.stat(path).st_ino] = number = next(self.numbers)
        return number

    def known(self, path):
        return self.ids[os.stat(path).st_ino]

    def note(self, folder, name, number):
        self.pending.setdefault(self.known(folder), []).append((name, number))
        self.happened()

    def happened(self):
        self.events += 1
        self.at_event()

    def _open(self, path, mode="r", *args, **more):
        new = self.mine(path) and not os.path.exists(path)
        file = self.open(path, mode, *args, **more)
        if new:
            self.note(Path(path).parent, Path(path).name, self.new(path))
        return file

    def _move(self, move, source, target):
        move(source, target)
        if self.mine(target):
            changes = self.pending.setdefault(self.known(Path(target).parent), [])
            changes.append(
                [(Path(target).name, self.known(target)), (Path(source).name, None)]
            )  # both or neither
            self.happened()

    def _replace(self, source, target, **more):
        self._move(self.replace, source, target)

    def _rename(self, source, target, **more):
        self._move(self.rename, source, target)

    def _unlink(self, path, **more):
        self.unlink(path, **more)
        if self.mine(path):
            self.note(Path(path).parent, Path(path).name, None)

    def _mkdir(self, path, *args, **more):
        self.mkdir(path, *args, **more)
        if self.mine(path):
            number = self.new(path)
            self.names[number] = {}
            self.note(Path(path).parent, Path(path).name, number)

    def _fsync(self, handle):
        self.fsync(handle)
        path = os.readlink(f"/proc/self/fd/{handle}")
        if not self.mine(path):
            return
        number = self.ids[os.fstat(handle).st_ino]
        if number in self.names:
            for change in self.pending.pop(number, []):
                self.put(self.names[number], change)
        else:
            self.contents[number] = Path(path).read_bytes()
        self.happened()

    @staticmethod
    def put(names, change):
        for name, number in change if isinstance(change, list) else [change]:
            if number is None:
                names.pop(name, None)
            else:
                names[name] = number

    def image(self, target, chance):
        here = {self.ids.get(p.stat().st_ino): p for p in self.root.rglob("*") if p.is_file()}
        self._image(self.known(self.root), target, chance, here)

    def _image(self, folder, target, chance, here):
        self.mkdir(target)
        names, changes = dict(self.names[folder]), self.pending.get(folder, [])
        for change in changes[: chance.randint(0, len(changes))]:
            self.put(names, change)
        for name, number in names.items():
            if number in self.names:
                self._image(number, target / name, chance, here)
                continue
            content = self.contents.get(number)
            if content is None:
                whole = here[number].read_bytes() if number in here else b""
                content = whole[: chance.choice([0, len(whole) // 2])]
            with self.open(target / name, "wb") as file:
                file.write(content)


def run(validate_every=1, **more):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(40, 4)).astype(np.float32)
    data = vs.data.Dataset(x, (x[:, 0] > 0).astype(int))
    network = vs.Stack(vs.Dense(6, np.tanh), vs.Dropout(0.2), vs.Dense(2))
    training = vs.Training(
        network, loss=vs.losses.cross_entropy, seed=3, optimiser=vs.optimisers.Adam(0.02)
    )
    observers = [
        vs.observers.Checkpoints("best", every=2),
        vs.observers.Curves(),
        vs.observers.Norms(1),
    ]
    outcome = training.run(
        data.batches(8),
        epochs=4,
        validation=vs.data.Dataset(x + 1, data.targets).batches(40),
        observers=observers,
        validate_every=validate_every,
        **more,
    )
    return outcome, {path: w.tobytes() for path, w in training.network.weights().items()}


def figures(outcome):
    norms = [
        {k: v for k, v in row.items() if k != "seconds"}
        for row in outcome.store.read_series("norms")
    ]
    return outcome.rows, norms


def test_what_a_power_cut_leaves_goes_on_to_equal_bits(tmp_path, monkeypatch, caplog):
    caplog.set_level(logging.ERROR, "vinestep")
    expected, weights = run(record=tmp_path / "whole")
    chance = random.Random(5)
    (tmp_path / "cut").mkdir()
    images = []
    with monkeypatch.context() as patch:
        disk = Disk(tmp_path / "cut", patch)
        at = set()

        def look():
            if disk.events in at:
                target = tmp_path / f"image-{disk.events}"
                disk.image(target, chance)
                images.append(target)

        run(record=tmp_path / "cut" / "first")  # how many events there are
        at |= {disk.events + chance.randint(1, disk.events - 1) for _ in range(CUTS)}
        disk.at_event = look
        run(record=tmp_path / "cut" / "runs")
    assert len(images) == len(at)
    continued = 0
    for image in images:
        for folder in (image / "runs").glob("run-*"):
            assert (folder / "plan.toml").stat().st_size, "a run that is seen has its plan"
            for state in folder.glob("states/step-*.npz"):
                archive.read(state)
            if vs.runs.RunFolder(folder).read_status()["status"] == "finished":
                continue
            outcome, found = run(resume=folder)
            continued += 1
            assert found == weights
            assert figures(outcome) == figures(expected)
    assert continued > CUTS // 2


def test_a_kill_at_any_write_goes_on_to_equal_bits(tmp_path, monkeypatch):
    """A kill leaves what was written: the folder as it is after each change on the disk; scores
    within epochs, which follow a state that is saved at the same step, included.
    """
    expected, weights = run(record=tmp_path / "whole", validate_every="2 steps")
    looks = expected.store.read_series("validation")
    best = expected.store.best_state()
    (tmp_path / "live").mkdir()
    images, chance = [], random.Random(7)
    with monkeypatch.context() as patch:
        disk = Disk(tmp_path / "live", patch)
        run(record=tmp_path / "live" / "first", validate_every="2 steps")
        begun = disk.events
        at = range(begun + 1, 2 * begun)
        at = set(at if EVERY_WRITE else chance.sample(at, KILLS))

        def look():
            if disk.events in at:
                images.append(tmp_path / f"image-{disk.events}")
                files = [p for p in (tmp_path / "live" / "runs").rglob("*") if p.is_file()]
                for file in files:
                    target = images[-1] / file.relative_to(tmp_path / "live" / "runs")
                    target.parent.mkdir(parents=True, exist_ok=True)
                    with disk.open(target, "wb") as copy, disk.open(file, "rb") as content:
                        copy.write(content.read())

        disk.at_event = look
        run(record=tmp_path / "live" / "runs", validate_every="2 steps")
    continued = 0
    for image in images:
        for folder in image.glob("run-*"):
            if not list(folder.glob("states/step-*.npz")):
                continue
            if vs.runs.RunFolder(folder).read_status()["status"] == "finished":
                continue
            outcome, found = run(resume=folder, validate_every="2 steps")
            continued += 1
            assert found == weights, image.name
            assert figures(outcome) == figures(expected), image.name
            assert outcome.store.read_series("validation") == looks, image.name
            assert outcome.store.best_state() == best, image.name
    assert continued > len(at) // 2


def test_a_damaged_series_is_read_as_far_as_it_is_sound(tmp_path):
    outcome, _ = run(record=tmp_path)
    path = outcome.folder / "norms.csv"
    whole = outcome.store.read_series("norms")
    path.write_bytes(path.read_bytes()[: len(path.read_bytes()) // 2])
    left = outcome.store.read_series("norms")
    assert left[:-1] == whole[: len(left) - 1]
    assert 0 < len(left) < len(whole)
    for state in outcome.folder.glob("states/*.npz"):
        state.write_bytes(b"")
    with pytest.raises(CheckpointError, match="cut short"):
        run(resume=outcome.folder)
