"""Demand forecasts for many series at once: methods, the choice between them, and how far off they may be."""

from .borrow import forecast_with_categories
from .choose import LEVELS, METHODS, Choice, Forecast, Method, forecast, forecast_by
from .series import Series, make_series
from .spread import Spread, quantile

__all__ = [
    "LEVELS",
    "METHODS",
    "Choice",
    "Forecast",
    "Method",
    "Series",
    "Spread",
    "forecast",
    "forecast_by",
    "forecast_with_categories",
    "make_series",
    "quantile",
]
