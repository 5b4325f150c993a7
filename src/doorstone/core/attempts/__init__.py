"""What attempts have shown: success rates, and which overrides work on a device or a model."""
