"""Forecasts, trends over the shop, and what needs a person."""
