"""Computations that are worth keeping: forecasts of plans, shared by all who look at them."""
