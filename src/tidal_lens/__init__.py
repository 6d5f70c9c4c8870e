"""Tidal Lens: see, locate and measure vortices, separation, shocks and recirculation in flow results."""

from tidal_lens.late import load_late

__version__ = "1.0.0"

load_late()
