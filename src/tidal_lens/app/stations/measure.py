"""The Measure station: numbers, charts and tables of the flow."""

from __future__ import annotations

from tidal_lens.app.stations.look import LayerStation
from tidal_lens.app.stations.station import Station

STATION = Station("measure", "Measure", "Sections, profiles, forces, means and flow rates", lambda document, act: LayerStation(
    "measure", document, act, "Numbers and charts of the chosen card stand in the ledger; its beads move it in the view."), cards=True)
