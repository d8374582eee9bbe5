"""Trends: fill rate, forecast, regrowth, advised interval.

`filling` and `futures` compute with NumPy and are imported by whoever computes; what this package
itself offers is free of it.
"""

from phylax.core.trends.outlook import (
    CHANCE,
    DAY,
    HORIZON_DAYS,
    Advice,
    ConePoint,
    Crossing,
    Grown,
    Help,
    IntervalVerdict,
    Outlook,
    PaceChange,
    Rate,
    Regrowth,
    SuddenChange,
    VolumeLine,
)
from phylax.core.trends.points import (
    Cleaning,
    FreeLine,
    Reading,
    Trend,
    TrendPoint,
    condense,
    condense_points,
    in_passing,
)

__all__ = [
    "CHANCE",
    "DAY",
    "HORIZON_DAYS",
    "Advice",
    "Cleaning",
    "ConePoint",
    "Crossing",
    "FreeLine",
    "Grown",
    "Help",
    "IntervalVerdict",
    "Outlook",
    "PaceChange",
    "Rate",
    "Reading",
    "Regrowth",
    "SuddenChange",
    "Trend",
    "TrendPoint",
    "VolumeLine",
    "condense",
    "condense_points",
    "in_passing",
]
