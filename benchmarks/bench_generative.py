"""Steps of networks that make examples: what a gradient penalty costs a critic, and a step of
diffusion against the bare network.
"""

from __future__ import annotations

import numpy as np

import vinestep as vs

from .timing import interleaved

__all__ = ["run"]

SIZE = 32


def _critic(of_pictures: bool) -> tuple[vs.Layer, tuple[int, ...]]:
    if of_pictures:
        layers = [
            layer
            for width in (16, 32, 64)
            for layer in (vs.Convolution(width, 4, stride=2), vs.leaky_relu)
        ]
        return vs.generation.Critic(vs.Stack(*layers, vs.Flatten())), (32, 32, 3)
    layers = [vs.Dense(256, vs.leaky_relu) for _ in range(3)]
    return vs.generation.Critic(vs.Stack(*layers)), (64,)


def _steps(of_pictures: bool, penalty: float):
    critic, shape = _critic(of_pictures)
    rng = np.random.default_rng(0)
    real, made = (rng.normal(size=(SIZE, *shape)).astype(np.float32) for _ in range(2))
    descent = vs.Descent(critic.initialise(shape))

    def loss():
        value = np.mean(critic(made)) - np.mean(critic(real))
        if penalty:
            value = value + vs.losses.gradient_penalty(critic, vs.Tensor(real)) * penalty
        return value

    return lambda: descent.step(loss)


def run() -> dict[str, float]:
    """Ratios of times."""
    result = {}
    for name, of_pictures in (("dense", False), ("pictures", True)):
        times = interleaved(
            {"with": _steps(of_pictures, 10.0), "without": _steps(of_pictures, 0.0)}
        )
        result[f"penalty, {name}"] = times["with"] / times["without"]
    return result
