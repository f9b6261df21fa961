from ._build import build as build
from ._describe import describe as describe
from ._registry import (
    kinds as kinds,
    maker as maker,
    part as part,
    register as register,
)
