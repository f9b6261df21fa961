import numpy as np
import pytest

from benchmarks import bench_layers

SMALL = {
    "convolutional": lambda: bench_layers.convolutional(3, (2, 3)),
    "residual": lambda: bench_layers.residual(2, 4),
    "lstm": lambda: bench_layers.lstm(3, 5, 8),
    "transformer": lambda: bench_layers.transformer(2, 7, 8),
    "embedding": lambda: bench_layers.embedding(60, 100),
}


@pytest.mark.parametrize("name", SMALL)
def test_a_step_of_ours_is_the_step_written_by_hand(name):
    case = SMALL[name]()
    training = case.training()
    for _ in range(3):
        ours, by_hand = (
            training.step((case.inputs, case.targets)),
            case.hand.step(case.inputs, case.targets),
        )
        assert ours.loss == pytest.approx(by_hand, rel=1e-5)
        np.testing.assert_allclose(
            ours.gradients.flat, case.hand.g, rtol=0, atol=2e-4 * np.abs(case.hand.g).max()
        )
