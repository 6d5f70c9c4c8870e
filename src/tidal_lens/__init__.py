"""Tidal Lens: see, locate and measure vortices, separation, shocks and recirculation in flow results."""

import os

from tidal_lens.late import load_late

__version__ = "1.0.0"

os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # none is wanted, and looking for some takes time at each start
load_late()
