"""Numbers of another card, or the flow's own, over the steps of a series."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tidal_lens.cutting.points import Points
from tidal_lens.errors import CancelledError, MissingQuantityError, StudyError, TidalLensError
from tidal_lens.flow.case import SOLID, Flow
from tidal_lens.measures.balance import mass_balance
from tidal_lens.measures.course import WINDOW, Course, course_of
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import Chart, Curve, table_of
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Amount, Table, numbers_of, unit_in
from tidal_lens.study.value import LayerId, Name
from tidal_lens.study.words import Words, number_text

_SHOWN = 6  # numbers that are drawn


class OverTimeShape(Shape):
    """Which numbers.

    Attributes
    ----------
    card : str
        Whose numbers; none takes the flow's: greatest speed, pressure drop, mass flows.
    numbers : tuple of str
        Their names in the card's table; none takes the first.
    spectrum : bool
        Whether spectra are drawn too.
    """

    kind: Literal["over-time"] = "over-time"
    reckoned: ClassVar[str] = "The mean by the trapezoid over time; the period by the Hann window’s peak, then the sinusoid that fits best."
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False
    of_series: ClassVar[bool] = True
    card: LayerId = ""
    numbers: Annotated[tuple[Name, ...], Field(max_length=_SHOWN)] = ()
    spectrum: bool = False

    @classmethod
    def takes(cls, shape: Shape) -> bool:
        """What tells numbers by name."""
        return (shape.measures or shape.kind == "region") and not shape.of_series

    def make(self, see: See) -> Made:
        """A curve over the steps for each number, with mean, amplitude and period."""
        times = np.array(see.flow.times)
        if len(times) < 2:
            raise StudyError("It is measured over time, but this flow has one step only.", "", "Open a series of steps.")
        found, unread, why = [], 0, ""
        for step in range(len(times)):
            see.token.check()
            try:
                found.append(self._numbers(see.at_step(step)))
            except CancelledError:
                raise
            except TidalLensError as error:
                found.append({})
                unread, why = unread + 1, str(error)
            see.token.report((step + 1) / len(times))
        offered = list(dict.fromkeys(name for own in found for name in own))
        if not offered:
            raise StudyError(why or "The card that it is of tells no numbers.", "", "Choose another card.")
        names = [n for n in self.numbers if n in offered] or (offered[:_SHOWN] if not self.card else offered[:1])
        values = {name: np.array([own.get(name, np.nan) for own in found]) for name in names}
        units = {name: next((v.unit for own in found if isinstance(v := own.get(name), Amount)), "") for name in names}
        values = {f"{name} [{units[name]}]" if units[name] else name: v for name, v in values.items()}
        courses = {name: course_of(times, v) for name, v in values.items()}
        unit = " [s]" if see.flow.si_units else ""
        charts = [Chart(f"time{unit}", name, (Curve(name, times, v),)) for name, v in values.items()]
        if self.spectrum:
            per = " [1/s]" if see.flow.si_units else ""
            charts += [Chart(f"frequency{per}", f"amplitude of {name} ({WINDOW} window)", (Curve(name, c.frequency, c.strength),))
                       for name, c in courses.items() if len(c.frequency)]
        first = next(iter(courses.values()))
        told = f"{next(iter(courses))}: mean {number_text(first.mean)}, amplitude {number_text(first.amplitude)}"
        if unread:
            told += f"; {unread} of {len(times)} steps could not be had: {why}"
        nothing = Points(np.empty((0, 3)), Stencil(np.empty((0, 1), np.int64), np.empty((0, 1))))
        return Made(nothing, tables=(table_of("Over time", tuple(charts)), _table(courses, si=see.flow.si_units)),
                    charts=tuple(charts), told=told)

    def _numbers(self, see: See) -> dict[str, float]:
        return _of_flow(see) if not self.card else numbers_of(see.made(self.card).tables)

    def tell(self, words: Words) -> str:
        """Of what."""
        return f"{', '.join(self.numbers[:3]) or 'numbers'} of {words.card(self.card) if self.card else 'the flow'} over time"


def _table(courses: dict[str, Course], *, si: bool) -> Table:
    told = {"mean": "mean", "least": "least", "greatest": "greatest", "amplitude": "amplitude, half the range", "rms": "rms about the mean",
            "period": "period of the strongest swing", "swing": "its amplitude", "periods": "periods in the record"}
    def cell(name: str, course: Course, field: str) -> float:
        value = float(getattr(course, field))
        if field in ("periods", "period"):
            return Amount(value, "s") if field == "period" and si else value
        return Amount(value, unit_in(name), change=field in ("amplitude", "rms", "swing"))

    rows: list[tuple[str | float, ...]] = [(word, *(cell(name, c, field) for name, c in courses.items())) for field, word in told.items()]
    return Table("Over time, in numbers", ("what", *courses), tuple(rows))


def _of_flow(see: See) -> dict[str, float]:
    """Greatest speed, pressure drop from the inlets to the outlets, and mass flow into each boundary."""
    out: dict[str, float] = {}
    flow = see.flow
    try:
        velocity = see.values("velocity")
    except MissingQuantityError:
        return {}
    out["greatest speed"] = float(np.sqrt(np.nanmax((velocity.astype(np.float64) ** 2).sum(axis=1))))
    try:
        pressure = see.values("pressure")
        ends = {kind: np.concatenate([np.empty(0, np.int64), *(b.nodes for b in flow.boundaries if b.kind == kind and b.nodes is not None)])
                for kind in ("inlet", "outlet")}
        if all(len(nodes) for nodes in ends.values()):
            out["pressure drop from inlet to outlet"] = float(np.nanmean(pressure[ends["inlet"]]) - np.nanmean(pressure[ends["outlet"]]))
        balance = mass_balance(flow, see.values("density"), velocity)
    except MissingQuantityError:
        return out
    for share in balance.shares:
        if share.kind not in SOLID and share.inward + share.outward > 1e-9 * balance.gross:
            out[f"mass flow in through {share.name}"] = share.net
    return out


def lacks_steps(flow: Flow) -> str:
    """Whether there is time to go over."""
    return "" if len(flow.times) > 1 else "several steps"


def new_over_time(store: QuantityStore, card: str) -> Begun:
    """The first number of the chosen card, or what the flow does as a whole."""
    return Begun("Over time", OverTimeShape(card=card), BallLook())


KIND = Kind(OverTimeShape, "Numbers of another card over the steps of a series: curves, mean, amplitude, period, spectrum.",
            "measure", "course", (Tile("add-over-time", "Over time", "Draw numbers of the chosen card over all steps."),),
            new_over_time, lacks=lacks_steps, group="Over")
