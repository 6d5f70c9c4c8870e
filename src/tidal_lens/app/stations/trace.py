"""The Trace station: lines through the flow."""

from __future__ import annotations

from tidal_lens.app.stations.look import LayerStation
from tidal_lens.app.stations.station import Station

STATION = Station("trace", "Trace", "Seeds and streamlines", lambda document, act: LayerStation(
    "trace", document, act, "Drag the beads of the seeds in the view: the lines follow. + adds a set to the card."), cards=True)
