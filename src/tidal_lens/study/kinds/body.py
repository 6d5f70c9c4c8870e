"""A surface from a file of its own."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar, Literal

from tidal_lens.cutting.bodies import body_surface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Tile
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import StudyPath
from tidal_lens.study.words import Words


class BodyShape(Shape):
    """A surface from a file of its own."""

    kind: Literal["body"] = "body"
    of_passages: ClassVar[bool] = False
    path: StudyPath

    def make(self, see: See) -> Made:
        """What the file holds, with the flow's values on it."""
        return Made(body_surface(see.flow, Path(self.path), see.token))

    def tell(self, _words: Words) -> str:
        """Name of the file."""
        return Path(self.path).name


def new_body(path: Path) -> Begun:
    """A body from a file, plain."""
    return Begun(path.stem[:200], BodyShape(path=str(path)), SurfaceLook())


KIND = Kind(BodyShape, "A surface from an STL, PLY or OBJ file, laid into the flow.", "look", "body",
            (Tile("add-body", "Body", "Lay a surface from an STL, PLY or OBJ file into the flow."),), group="From a file",
            files=("Bodies (*.stl *.ply *.obj)",))
