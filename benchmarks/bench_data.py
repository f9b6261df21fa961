"""Reading data: batches of pictures against a plain loop, tables against bare indexing, JPEG files,
text, arrays larger than wanted.
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

import vinestep as vs
from vinestep.data import pictures

from .timing import interleaved

__all__ = ["run"]

BATCH = 64


def _seconds(call: Callable[[], object]) -> float:
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def _from_memory() -> dict[str, float]:
    """Batches of 64 pictures with flip, shift and brightness, and the same in a loop over
    pictures.
    """
    rng = np.random.default_rng(0)
    pixels, labels = rng.integers(0, 256, (6400, 32, 32, 3), np.uint8), rng.integers(0, 6, 6400)
    data = vs.data.Dataset(pixels, labels)
    batches = data.batches(
        BATCH, augment=[pictures.Flip(), pictures.Shift(2), pictures.Brightness(0.2)], readers=2
    )

    def ours() -> None:
        for _ in batches.epoch(0):
            pass

    def plain() -> None:
        order = rng.permutation(len(pixels))
        for start in range(0, len(order), BATCH):
            found = []
            for i in order[start : start + BATCH]:
                x = pixels[i]
                if rng.random() < 0.5:
                    x = x[:, ::-1]
                down, right = rng.integers(-2, 3, 2)
                x = np.roll(np.pad(x, ((2, 2), (2, 2), (0, 0))), (down, right), axis=(0, 1))[
                    2:-2, 2:-2
                ]
                found.append(
                    np.clip(np.rint(x * np.float32(rng.uniform(0.8, 1.2))), 0, 255).astype(np.uint8)
                )
            np.stack(found)

    times = interleaved({"ours": ours, "plain": plain}, seconds=6.0, rounds=5)
    return {
        "pictures a second": len(pixels) / times["ours"],
        "times the plain loop": times["plain"] / times["ours"],
    }


def _table() -> dict[str, float]:
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(20_000, 20)).astype(np.float32), rng.integers(0, 3, 20_000)
    batches = vs.data.Dataset(x, y).batches(BATCH)

    def ours() -> None:
        for _ in batches.epoch(0):
            pass

    def bare() -> None:
        order = np.random.default_rng([0, 0, 1]).permutation(len(x))
        for start in range(0, len(order), BATCH):
            index = order[start : start + BATCH]
            x[index], y[index]

    times = interleaved({"ours": ours, "bare": bare}, seconds=3.0)
    return {"of bare indexing": times["ours"] / times["bare"]}


def _jpegs(count: int = 2000) -> dict[str, float]:
    from PIL import Image

    with tempfile.TemporaryDirectory() as folder:
        rng = np.random.default_rng(0)
        (Path(folder) / "leaf").mkdir()
        coarse = rng.integers(0, 255, (20, 25, 25, 3), np.uint8)
        for i in range(count):
            Image.fromarray(coarse[i % 20]).resize((200, 200), Image.Resampling.BICUBIC).save(
                Path(folder) / "leaf" / f"{i}.jpg"
            )
        source = vs.data.PictureFolder(folder)
        batches = source.batches(BATCH, augment=pictures.Crop(160), readers=2)

        def ours() -> None:
            for _ in batches.epoch(0):
                pass

        def decoded(file: Path) -> None:
            with Image.open(file) as opened:
                opened.convert("RGB").load()

        def bare() -> None:
            with ThreadPoolExecutor(2) as pool:
                list(pool.map(decoded, source.paths))

        times = interleaved({"ours": ours, "bare": bare}, seconds=12.0, rounds=3)
    return {
        "of Pillow alone": times["bare"] / times["ours"],
        "files a second": count / times["ours"],
    }


def _text() -> dict[str, float]:
    words = [
        "".join(np.random.default_rng(k).choice(list("abcdefghiklmnoprstuw"), 3 + k % 8))
        for k in range(8000)
    ]
    rng = np.random.default_rng(0)
    ranks = np.minimum(rng.zipf(1.3, 900_000) - 1, len(words) - 1)
    corpus = " ".join(words[k] for k in ranks)[:5_000_000]
    lines = [corpus[i : i + 500] for i in range(0, len(corpus), 500)]
    begun = time.perf_counter()
    tokeniser = vs.data.BytePairTokeniser.learned(lines, tokens=8000)
    learning = time.perf_counter() - begun
    begun = time.perf_counter()
    for line in lines:
        tokeniser.encode(line)
    return {
        "learning 5 MB, seconds": learning,
        "encoding, MB a second": len(corpus) / 1e6 / (time.perf_counter() - begun),
    }


def _own_memory() -> int:
    """Kilobytes without pages of files, which the system takes back when it needs them."""
    return int(
        next(
            line
            for line in Path("/proc/self/status").read_text().splitlines()
            if line.startswith("RssAnon")
        ).split()[1]
    )


def _mapped(gigabytes: float = 4.0) -> dict[str, float]:
    with tempfile.TemporaryDirectory(dir=Path.home()) as folder:
        n = int(gigabytes * 2**30 / 4096)
        for name, shape in (("inputs", (n, 1024)), ("targets", (n,))):
            made = np.lib.format.open_memmap(Path(folder) / f"{name}.npy", "w+", np.float32, shape)
            made[:: max(1, n // 1000)] = 1
            del made
        before = _own_memory()
        batches = vs.data.arrays(folder).batches(BATCH, readers=2)

        def read() -> None:
            for _, _ in zip(range(2000), batches.epoch(0), strict=False):
                pass

        seconds = _seconds(read)
        grown = _own_memory() - before
    return {
        "gigabytes": gigabytes,
        "examples a second": 2000 * BATCH / seconds,
        "grown by, MB": grown / 1024,
    }


def run() -> dict[str, dict[str, float]]:
    return {
        "pictures of 32x32x3 from memory, flip, shift, brightness, 2 readers": _from_memory(),
        "a table of 20 columns in batches of 64": _table(),
        "2,000 JPEG files of 200x200, cropped to 160, 2 readers": _jpegs(),
        "byte pairs": _text(),
        "a memory-mapped array, shuffled": _mapped(),
    }
