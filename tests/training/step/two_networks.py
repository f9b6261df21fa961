"""A generator and a critic of points on a circle, as a program: python two_networks.py RECORD
RESUME KILL.
"""

import os
import signal
import sys
from functools import partial

import numpy as np

import vinestep as vs

rng = np.random.default_rng(0)
angle = rng.uniform(0, 2 * np.pi, 256)
points = np.stack([np.cos(angle), np.sin(angle)], axis=1).astype(np.float32)


def make():
    critic = vs.Stack(vs.Dense(16), vs.leaky_relu, vs.Dropout(0.1), vs.Dense(1)).initialise(
        points[:1], seed=1
    )
    generator = vs.Stack(vs.Dense(16), vs.relu, vs.Dense(2)).initialise(np.ones((1, 2)), seed=2)
    return (
        vs.Descent(
            critic,
            optimiser=vs.optimisers.Adam(2e-3, beta1=0.5),
            schedule=vs.schedules.cosine(4000),
            seed=1,
        ),
        vs.Descent(generator, optimiser=vs.optimisers.Adam(2e-3, beta1=0.5), clip=5.0, seed=2),
        vs.RandomStream(3),
    )


def one_step(critic, generator, noise):
    for _ in range(5):
        real = points[noise.rng.integers(0, 256, 32)]
        made = vs.held(generator.network(noise.rng.normal(size=(32, 2)).astype(np.float32)))
        judged = critic.step(
            partial(
                vs.losses.wasserstein_critic, critic.network, real, made, seed=critic.step_number
            )
        )
    z = noise.rng.normal(size=(32, 2)).astype(np.float32)
    return judged.loss, generator.step(lambda: -np.mean(critic.network(generator.network(z)))).loss


if __name__ == "__main__":
    parts = dict(zip(("critic", "generator", "noise"), make(), strict=True))
    observers = [vs.observers.Checkpoints(every=4)]
    where = {"resume": sys.argv[2]} if sys.argv[2] != "-" else {"record": sys.argv[1]}
    with vs.recorded_run(parts, steps=30, name="points", observers=observers, **where) as run:
        for number in run.steps():
            critic_loss, generator_loss = one_step(**parts)
            run.numbers(critic=critic_loss, generator=generator_loss)
            if number == int(sys.argv[3]):
                os.kill(os.getpid(), signal.SIGKILL)
