from ._animation import animation as animation
from ._attribution import (
    attention as attention,
    dependence as dependence,
    example_map as example_map,
    feature_maps as feature_maps,
    importances as importances,
    overlay as overlay,
    sequence_overlay as sequence_overlay,
)
from ._curves import curves as curves
from ._data import (
    classes as classes,
    columns as columns,
    examples as examples,
    lengths as lengths,
    tokens as tokens,
)
from ._decisions import decisions as decisions
from ._network import network as network
from ._runs import (
    compared as compared,
    distributions as distributions,
    effects as effects,
    first_and_latest as first_and_latest,
    norms as norms,
)
from ._samples import (
    marginals as marginals,
    nearest_pictures as nearest_pictures,
    picture_grid as picture_grid,
    sample_scatter as sample_scatter,
)
from ._scores import (
    against_truth as against_truth,
    calibration as calibration,
    confusion as confusion,
    precision_recall as precision_recall,
    roc as roc,
)
from ._style import as_png as as_png, save as save
from ._trail import trail as trail
from ._tuning import (
    profile as profile,
    rate_range as rate_range,
    schedule as schedule,
    trials as trials,
)
