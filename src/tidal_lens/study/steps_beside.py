"""Which step of another case goes with the one that is shown of the first."""

from __future__ import annotations

import numpy as np

from tidal_lens.flow.case import Flow
from tidal_lens.study.model import OtherCase


def step_beside(other: OtherCase, here: Flow, times: tuple[float, ...]) -> int:
    """Which of another case's steps, at these times, goes with the step of the first that is shown."""
    count = len(times)
    if count < 2:
        return 0
    if other.by == "number" or len(here.times) < 2:
        return int(np.clip(here.step + round(other.shift), 0, count - 1))
    there, own = np.array(times), np.array(here.times)
    if other.by == "time":
        return int(np.abs(there - (own[here.step] + other.shift)).argmin())
    # Once round takes as many steps as there are: the last is one before the first.
    phase = (own[here.step] - own[0]) / (np.ptp(own) * len(own) / (len(own) - 1)) + other.shift
    off = (there - there[0]) / (np.ptp(there) * count / (count - 1)) - phase
    return int(np.abs(off - np.round(off)).argmin())
