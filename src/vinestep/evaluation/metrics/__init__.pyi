from ._base import (
    Metric as Metric,
    of_all as of_all,
    of_target as of_target,
    target_loss as target_loss,
)
from ._classes import (
    accuracy as accuracy,
    confusion as confusion,
    f1 as f1,
    f_measure as f_measure,
    intersection_over_union as intersection_over_union,
    kappa as kappa,
    matthews_correlation as matthews_correlation,
    precision as precision,
    rank_error as rank_error,
    recall as recall,
    top as top,
)
from ._numbers import (
    absolute_error as absolute_error,
    correlation as correlation,
    coverage as coverage,
    quantile_loss as quantile_loss,
    r_squared as r_squared,
    root_mean_squared_error as root_mean_squared_error,
    squared_error as squared_error,
)
from ._probabilities import (
    brier_score as brier_score,
    calibration_error as calibration_error,
    log_loss as log_loss,
)
from ._ranking import (
    area_under_precision_recall as area_under_precision_recall,
    area_under_roc as area_under_roc,
    average_precision as average_precision,
    roc_area as roc_area,
)
from ._texts import (
    character_error_rate as character_error_rate,
    edit_distance as edit_distance,
    perplexity as perplexity,
    token_error_rate as token_error_rate,
    word_error_rate as word_error_rate,
)
