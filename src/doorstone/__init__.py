"""Door Stone: carry a fleet over upgrade requirements it does not meet, with every exception accounted for."""

__version__ = "0.1.0"
