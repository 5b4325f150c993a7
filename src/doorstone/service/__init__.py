"""The service: Flask over the use cases, one module per resource, and the built console."""
