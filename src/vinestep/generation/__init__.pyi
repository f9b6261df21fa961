from ._adversarial_networks import (
    Critic as Critic,
    LatentGenerator as LatentGenerator,
    MinibatchDeviation as MinibatchDeviation,
    SpectralNorm as SpectralNorm,
)
from ._autoencoders import (
    Autoencoder as Autoencoder,
    QuantisedAutoencoder as QuantisedAutoencoder,
    VariationalAutoencoder as VariationalAutoencoder,
)
from ._diffusion import Diffusion as Diffusion
from ._generate import Generated as Generated, Piece as Piece, stream as stream
from ._maker import Maker as Maker
from ._noise_schedules import (
    Cosine as Cosine,
    Linear as Linear,
    NoiseSchedule as NoiseSchedule,
    Sigmas as Sigmas,
    Straight as Straight,
)
from ._sample_scores import (
    SampleScores as SampleScores,
    TwoSampleTest as TwoSampleTest,
    copying as copying,
    coverage as coverage,
    energy_distance as energy_distance,
    frechet_distance as frechet_distance,
    made_findings as made_findings,
    mean_discrepancy as mean_discrepancy,
    nearest_examples as nearest_examples,
    precision_and_recall as precision_and_recall,
    two_sample_test as two_sample_test,
)
from ._sampling import shaped as shaped
from ._text_scores import TextScores as TextScores
