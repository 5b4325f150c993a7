"""Forecasts of one device and of the fleet, scenarios, costs, a plan for a budget."""
