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
from ._generative_network import GenerativeNetwork as GenerativeNetwork
from ._noise_schedules import (
    Cosine as Cosine,
    Linear as Linear,
    NoiseSchedule as NoiseSchedule,
    PowerLaw as PowerLaw,
    Straight as Straight,
)
from ._sample_scores import (
    SampleScores as SampleScores,
    TwoSampleTest as TwoSampleTest,
    coverage as coverage,
    data_copying as data_copying,
    energy_distance as energy_distance,
    frechet_distance as frechet_distance,
    maximum_mean_discrepancy as maximum_mean_discrepancy,
    nearest_neighbours as nearest_neighbours,
    precision_and_recall as precision_and_recall,
    sample_finding as sample_finding,
    two_sample_test as two_sample_test,
)
from ._sampling import shaped as shaped
from ._text_scores import TextScores as TextScores
