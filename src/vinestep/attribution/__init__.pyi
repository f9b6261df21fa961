from ._overview import Overview as Overview, overview as overview
from ._representations import (
    Neighbours as Neighbours,
    nearest_examples as nearest_examples,
    principal_components as principal_components,
    stochastic_neighbours as stochastic_neighbours,
)
from ._saliency import (
    attention_weights as attention_weights,
    input_gradients as input_gradients,
    integrated_gradients as integrated_gradients,
    occlusion as occlusion,
)
from ._tables import (
    partial_dependence as partial_dependence,
    permutation_importance as permutation_importance,
)
