"""Forecasts, and trends over the shop."""
