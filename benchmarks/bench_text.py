"""Language models: training against bare matrix products, cached generation against uncached,
products with weights in codes.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

import vinestep as vs
from vinestep.layers._block_codes import coded
from vinestep.layers._dense import dense
from vinestep.layers._quantised import coded_product

from .timing import interleaved

__all__ = ["run"]

WIDTH, DEPTH, HEADS, LENGTH, BATCH, TOKENS = 256, 4, 4, 256, 8, 1000
LONG = 512
MORE = 32


def _products() -> Callable[[], None]:
    """All matrix products of a training step of the model, one after another, and nothing else."""
    n, rng = BATCH * LENGTH, np.random.default_rng(0)

    def matrix(*shape: int) -> np.ndarray:
        return rng.normal(size=shape).astype(np.float32)

    x, inner, logits = matrix(n, WIDTH), matrix(n, 4 * WIDTH), matrix(n, TOKENS)
    square, wide, head = matrix(WIDTH, WIDTH), matrix(WIDTH, 4 * WIDTH), matrix(WIDTH, TOKENS)
    query, scores = (
        matrix(BATCH * HEADS, LENGTH, WIDTH // HEADS),
        matrix(BATCH * HEADS, LENGTH, LENGTH),
    )

    def both_ways(a: np.ndarray, weight: np.ndarray, g: np.ndarray) -> None:
        _ = a @ weight, g @ weight.T, a.T @ g

    def products() -> None:
        for _ in range(DEPTH):
            for _ in range(4):
                both_ways(x, square, x)
            both_ways(x, wide, inner)
            both_ways(inner, np.ascontiguousarray(wide.T), x)
            for _ in range(
                2
            ):  # of queries and keys, and of weights and values: forward, and back to either
                _ = query @ query.swapaxes(1, 2), scores @ query, scores.swapaxes(1, 2) @ query
        both_ways(x, head, logits)

    return products


def _training() -> dict[str, float]:
    """Of the products alone; and tokens a second."""
    ids = np.random.default_rng(1).integers(4, TOKENS, (BATCH, LENGTH + 1))
    model = vs.networks.LanguageModel(TOKENS, width=WIDTH, depth=DEPTH, heads=HEADS).initialise(
        ids[:, :-1]
    )
    training = vs.Training(
        model, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.AdamW(1e-3), clip=1.0
    )
    batch = (ids[:, :-1], ids[:, 1:])
    times = interleaved({"step": lambda: training.step(batch), "products": _products()}, rounds=7)
    return {
        "of the products": times["step"] / times["products"],
        "tokens a second": BATCH * LENGTH / times["step"],
    }


def _generating() -> dict[str, float]:
    """A token more at a length of 512, with cached keys and values, of 32 in turn, and without."""
    prompt = np.random.default_rng(2).integers(4, TOKENS, LONG).tolist()
    model = vs.networks.LanguageModel(TOKENS, width=WIDTH, depth=DEPTH, heads=HEADS).initialise(
        np.array([prompt])
    )
    contenders = {
        "first": lambda: vs.generate(model, prompt, most=1),
        "more": lambda: vs.generate(model, prompt, most=1 + MORE),
        "uncached": lambda: vs.generate(model, prompt, most=1, cached=False),
    }
    times = interleaved(contenders, rounds=9)
    each = (times["more"] - times["first"]) / MORE
    return {"times as fast": times["uncached"] / each, "tokens a second": 1 / each}


def _in_codes() -> dict[str, float]:
    """Products of 32 rows with a weight in codes, of those with float32; memory and what is lost of
    normal weights.
    """
    found, rng = {}, np.random.default_rng(3)
    for n_in, n_out in ((WIDTH, 4 * WIDTH), (1024, 1024), (1024, 4096)):
        weight, bias = (
            rng.normal(size=(n_in, n_out)).astype(np.float32),
            np.zeros(n_out, np.float32),
        )
        x = rng.normal(size=(32, n_in)).astype(np.float32)
        small = {"4 bits": coded(weight), "8 bits": coded(weight, bits=8, form="symmetric")}
        compared: dict[str, Callable[[], Any]] = {
            "float32": lambda x=x, w=weight, b=bias: dense(x, w, b)
        }  # type: ignore[misc]
        compared |= {
            name: lambda x=x, b=bias, w=held: coded_product(x, b, weight=w)
            for name, held in small.items()
        }  # type: ignore[misc]
        times = interleaved(compared, rounds=31)
        for name, held in small.items():
            found[f"{n_in} to {n_out}, {name}: time"] = times[name] / times["float32"]
            found[f"{n_in} to {n_out}, {name}: memory"] = held.n_bytes / weight.nbytes
            found[f"{n_in} to {n_out}, {name}: lost"] = float(
                np.sqrt(np.mean((held.decoded() - weight) ** 2))
            )
    return found


def run() -> dict[str, Any]:
    return {"training": _training(), "generating": _generating(), "in codes": _in_codes()}
