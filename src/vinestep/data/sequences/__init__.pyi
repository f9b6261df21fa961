from ._transforms import (
    CropTime as CropTime,
    Difference as Difference,
    Lags as Lags,
    windows as windows,
)
