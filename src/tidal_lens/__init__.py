"""Tidal Lens: see, locate and measure vortices, separation, shocks and recirculation in flow results."""

__version__ = "0.1.0"
