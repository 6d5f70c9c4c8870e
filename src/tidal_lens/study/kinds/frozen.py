"""Lines that stay as they were: a copy that the study itself holds, whatever becomes of seeds, steps or formulas."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.cutting.points import values_at
from tidal_lens.errors import StudyError
from tidal_lens.quantities.names import OWN
from tidal_lens.study.kinds.fates import lines_table
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort
from tidal_lens.study.looks import LineLook
from tidal_lens.study.packed import pack, unpack
from tidal_lens.study.value import Name
from tidal_lens.study.words import Words
from tidal_lens.tracing.streamlines import End, Lines

MOST_POINTS = 400_000
_VALUES = "values of "


class FrozenShape(Shape):
    """Lines as they once were, with values that they had.

    Attributes
    ----------
    held : str
        Its arrays: see :mod:`tidal_lens.study.packed`.
    source : str
        What they are a copy of, and of when.
    """

    kind: Literal["frozen"] = "frozen"
    geometry: ClassVar[Sort] = "lines"
    held: Annotated[str, Field(max_length=90_000_000)]
    source: Name = ""

    def make(self, see: See) -> Made:
        """The lines; other quantities are those of the flow where they are."""
        found = unpack(self.held)
        points = np.ascontiguousarray(_of(found, "points", 2), np.float64)
        offsets, seeds, ends = (_of(found, name, n).astype(np.int64) for name, n in (("offsets", 1), ("seeds", 1), ("ends", 2)))
        time, error = (_of(found, name, 1).astype(np.float64) for name in ("time", "error"))
        more = {name[len(_VALUES):]: _of(found, name, 1).astype(np.float64) for name in found if name.startswith(_VALUES)}
        lines = len(offsets) - 1
        so_far = _of(found, "so far", 1).astype(np.float64) if "so far" in found else None
        along = (time, *more.values(), *(() if so_far is None else (so_far,)))
        good = (points.shape[1] == 3 and lines >= 0 and len(seeds) == len(error) == lines and ends.shape == (lines, 2)
                and offsets[0] == 0 and offsets[-1] == len(points) and (np.diff(offsets) >= 0).all() and np.isfinite(points).all()
                and np.isin(ends, [0, *End]).all() and all(len(v) == len(points) for v in along))
        if not good:
            raise StudyError("The lines that the study holds do not fit together.", self.source, "Delete the card.")
        flow, token = see.flow, see.token
        copy = Lines(points, offsets, time, lambda: values_at(flow, points, token), seeds, ends, error, lines, more, so_far=so_far)
        _ = copy.census, copy.lengths, copy.doubtful
        return Made(copy, None, (lines_table(copy),), f"{lines:,} lines, as they were")

    def tell(self, _words: Words) -> str:
        """What it is a copy of."""
        return f"frozen copy of {self.source}"


def _of(found: dict[str, NDArray[Any]], name: str, ndim: int) -> NDArray[Any]:
    there = found.get(name)
    if there is None or there.ndim != ndim or there.dtype.kind not in "fiu":
        raise StudyError("The lines that the study holds do not fit together.", name, "Delete the card.")
    return there


def freeze(lines: Lines, colours: NDArray[np.float64] | None, look: LineLook, source: str, title: str) -> Begun:
    """A copy of lines as they are drawn now, with the values that colour them.

    Parameters
    ----------
    lines : Lines
        What a layer came to.
    colours : ndarray, shape (points,), or None
        Values that colour it.
    look : LineLook
        How it is drawn.
    source, title : str
        What it is a copy of; what the quantity that colours it is called.

    Raises
    ------
    StudyError
        They are too many to be held.
    """
    if len(lines.points) > MOST_POINTS:
        raise StudyError(f"A study holds lines of up to {MOST_POINTS:,} points; these are {len(lines.points):,}.", source,
                         "Thin the seeds out first, or save the lines as VTP.")
    more, name = dict(lines.more), look.colour_by
    if name is not None and not name.startswith(OWN) and colours is not None:
        title = f"{title}, as it was"
        more[title], name = colours, OWN + title
    held: dict[str, NDArray[Any]] = {
        "points": lines.points.astype(np.float32), "offsets": lines.offsets, "time": lines.time.astype(np.float32),
        "seeds": lines.seeds.astype(np.int32), "ends": lines.ends.astype(np.int8), "error": lines.error.astype(np.float32),
        **({} if lines.so_far is None else {"so far": lines.so_far.astype(np.float32)}),
        **{_VALUES + n: np.asarray(v, np.float32) for n, v in more.items()}}
    return Begun("Frozen lines", FrozenShape(held=pack(held), source=source[:200]), look.with_(colour_by=name))


KIND = Kind(FrozenShape, "A copy of lines that stays as it was, whatever becomes of the card that it was taken from.",
            begun_by="*Keep a frozen copy* in the controls of a card of lines")
