"""A picture with the marks over it, as PNG, SVG or PDF: letters and lines stay letters and lines where the format has them."""

from __future__ import annotations

import io
from collections.abc import Iterable
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.patches import Circle, FancyBboxPatch, Patch, Polygon, Rectangle
from matplotlib.text import Text
from matplotlib.transforms import Affine2D
from numpy.typing import NDArray
from PIL import Image

from tidal_lens.scene.marks import Dot, Mark, Path, Picture, Plate, Tint, Words
from tidal_lens.scene.themes import Theme, rgba
from tidal_lens.tell.lettering import LOCK, font

Pixels = NDArray[np.uint8]
_INCH = 72.0  # units of the view
PLAIN = {"svg.fonttype": "path", "pdf.fonttype": 42, "svg.hashsalt": "tidal-lens", "path.simplify": False}


def over(below: Pixels, above: Pixels) -> Pixels:
    """One picture (h, w, 4) laid over another, both with solidity."""
    return np.asarray(Image.alpha_composite(Image.fromarray(below), Image.fromarray(above)))


def lettered(marks: Iterable[Mark], wide: int, tall: int, ratio: float, theme: Theme) -> Pixels:
    """Marks alone as pixels (tall, wide, 4): ``ratio`` pixels to one of the units that they are given in."""
    with LOCK, mpl.rc_context(PLAIN):
        figure = Figure(figsize=((wide + 0.01) / ratio / _INCH, (tall + 0.01) / ratio / _INCH), dpi=_INCH * ratio)
        canvas = FigureCanvasAgg(figure)
        figure.patch.set_alpha(0.0)
        _draw(figure, marks, tall / ratio, theme)
        canvas.draw()
        return np.asarray(canvas.buffer_rgba()).copy()


def document(pixels: Pixels, marks: Iterable[Mark], ratio: float, theme: Theme, kind: str, about: str = "") -> bytes:
    """An SVG or PDF of a picture (h, w, 4) with its marks as shapes and letters, as bytes."""
    tall, wide = pixels.shape[:2]
    out = io.BytesIO()
    with LOCK, mpl.rc_context(PLAIN):
        figure = Figure(figsize=(wide / ratio / _INCH, tall / ratio / _INCH), dpi=_INCH * ratio)
        figure.patch.set_alpha(0.0)
        axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
        axes.set_axis_off()
        axes.imshow(pixels, interpolation="none", aspect="auto")
        _draw(figure, marks, tall / ratio, theme)
        said: dict[str, Any] = {"Title": about, "Creator": "Tidal Lens", **({"CreationDate": None} if kind == "pdf" else {"Date": None})}
        figure.savefig(out, format=kind, metadata=said, dpi=_INCH * ratio)
    return out.getvalue()


def png(pixels: Pixels, about: str = "") -> bytes:
    """A picture (h, w, 3 or 4) as PNG; solid ones without their solidity."""
    from PIL.PngImagePlugin import PngInfo

    info = PngInfo()
    info.add_text("Software", "Tidal Lens")
    if about:
        info.add_text("Title", about)
    if pixels.shape[2] == 4 and pixels[..., 3].min() == 255:
        pixels = pixels[..., :3]
    out = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).save(out, "png", pnginfo=info, compress_level=6)
    return out.getvalue()


def _draw(figure: Figure, marks: Iterable[Mark], tall: float, theme: Theme) -> None:
    """Put marks on a figure, the first at the back; the figure's y goes up."""
    own = Affine2D().scale(1.0, -1.0).translate(0.0, tall).scale(1.0 / _INCH) + figure.dpi_scale_trans
    for n, mark in enumerate(marks, 10):
        if isinstance(mark, Picture):
            _lay(figure, mark, tall, n)
            continue
        artist = _text(mark, theme) if isinstance(mark, Words) else _patch(mark, theme)
        artist.set_zorder(n)
        artist.set_transform(own)
        figure.add_artist(artist)


def _lay(figure: Figure, mark: Picture, tall: float, order: int) -> None:
    left, top, wide, high = mark.box
    whole = _INCH * figure.get_figwidth()
    axes = figure.add_axes((left / whole, 1.0 - (top + high) / tall, wide / whole, high / tall), zorder=order)
    axes.set_axis_off()
    axes.imshow(mark.pixels, aspect="auto", interpolation="antialiased")


def _tint(theme: Theme, tint: Tint | None) -> tuple[float, float, float, float] | str:
    return "none" if tint is None else rgba(theme, tint.role, tint.alpha)


def _text(mark: Words, theme: Theme) -> Text:
    return Text(*mark.at, mark.text, color=_tint(theme, mark.tint), fontproperties=font(mark.size, bold=mark.bold),
                verticalalignment="baseline", horizontalalignment="left", parse_math=False)


def _patch(mark: Plate | Path | Dot, theme: Theme) -> Patch:
    look: dict[str, Any] = {"facecolor": _tint(theme, mark.fill), "edgecolor": _tint(theme, mark.edge),
                            "linewidth": 0.0 if mark.edge is None else 1.0 if isinstance(mark, Plate) else mark.width}
    if isinstance(mark, Dot):
        return Circle(mark.at, mark.radius, **look)
    if isinstance(mark, Path):
        return Polygon(mark.places, closed=mark.fill is not None, **look, joinstyle="round", capstyle="round")
    left, top, width, high = mark.box
    if mark.radius:
        return FancyBboxPatch((left, top), width, high, boxstyle=f"round,pad=0,rounding_size={mark.radius}", mutation_scale=1.0, **look)
    return Rectangle((left, top), width, high, **look, antialiased=mark.edge is not None)  # bars have no seams
