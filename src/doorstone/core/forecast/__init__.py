"""Forecast: the releases a device can reach, when its runway ends, what each way costs."""
