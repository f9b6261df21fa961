"""Fit a small physical model: how fast yeast works, from made-up readings of sugar in three tanks.

The model is a loop of Euler steps in NumPy; `scipy.optimize.minimize` gets its gradient from
`gradient_of`, unchanged. The Hessian at the optimum then says how sure each parameter is. Run it:
python examples/ferment_fit.py
"""

import numpy as np
from scipy.optimize import minimize

import vinestep as vs
from vinestep.demo import ferment_course

HOURS = 120
TRUE = {"rate": 1.1, "energy": 5200.0, "half": 22.0}
SCALE = np.array([1.0, 5000.0, 20.0])
NOISE = 1.0  # g/l


def tanks():
    rng = np.random.default_rng(4)
    clock = np.arange(HOURS)
    temperature = np.array([[17.0], [21.0], [25.0]]) + 1.5 * np.sin(2 * np.pi * clock / 24)
    sugar = np.array([200.0, 215.0, 230.0])
    course = ferment_course(sugar, temperature, *TRUE.values(), HOURS)
    return sugar, temperature, course + rng.normal(0.0, NOISE, course.shape)


def main() -> dict[str, tuple[float, float]]:
    sugar, temperature, readings = tanks()

    def misfit(scaled):
        rate, energy, half = scaled * SCALE
        course = ferment_course(sugar, temperature, rate, energy, half, HOURS)
        return 0.5 * np.sum(((course - readings) / NOISE) ** 2)

    start = np.array([0.6, 0.5, 0.5])
    print(vs.check_gradients(misfit, start, tolerance=1e-6))
    found = minimize(
        misfit, start, jac=vs.gradient_of(misfit), method="BFGS", options={"gtol": 1e-4}
    )
    spread = np.sqrt(np.diag(np.linalg.inv(vs.hessian_of(misfit)(found.x)))) * SCALE
    result = {}
    print(f"after {found.nit} iterations and {found.njev} gradients")
    for name, value, sure in zip(TRUE, found.x * SCALE, spread, strict=True):
        result[name] = (float(value), float(sure))
        print(f"{name:>7}: {value:9.3f} +- {sure:.3f}   (made up with {TRUE[name]})")
    return result


if __name__ == "__main__":
    main()
