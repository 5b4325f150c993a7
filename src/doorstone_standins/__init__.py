"""The simulated outside world: a machine, an assessor, a set-up program, an update service.

It shares no code and no data with the product, so that agreement between the two proves something.
"""
