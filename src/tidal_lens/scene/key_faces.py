"""Colour keys: where each lies in the view, what it shows, and the marks that it is made of."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field

import numpy as np

from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.quantities.store import Distribution, Quantity
from tidal_lens.scene.marks import Dot, Mark, Measure, Path, Plate, Tint, Words, cut_short
from tidal_lens.scene.palettes import palette
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.geometry import CODES
from tidal_lens.study.model import KeySetting, Study
from tidal_lens.study.shown import InUnits, in_units
from tidal_lens.study.words import number_text

LEFT, TOP, WIDTH, HEIGHT, BAR, SPREAD, LINE = 12.0, 12.0, 124.0, 236.0, 13.0, 30.0, 13.0
SLIM, GAP = 62.0, 6.0  # of a key that gives way; between two
WORDS_AT = 8 + SPREAD + BAR + 13 + 8  # room of a key but for the words beside its bar
BEAD = -6.0  # of isosurface values, from the left edge of the bar
_TITLE, _SMALL, _NUMBER = 12.5, 11.0, 12.0
_GREY = "#9E9E9E"  # where there is no value, or one beyond the range
KeyOf = Callable[[str], tuple[Distribution, float, float] | None]


@dataclass(frozen=True, eq=False)
class KeyFace:
    """One key.

    Attributes
    ----------
    quantity, spread : Quantity, Distribution
        What it is of.
    low, high : float
        Its range.
    left, top, height : float
        Where it lies.
    axis : tuple of float
        The least and greatest value on its bar.
    beads : tuple of (str, float)
        Layers, by their ids, and the values that they take; the second and following of a layer with # and their number.
    title : str
        As it fits.
    told : tuple of str
        Unit, and how the values came about, in as many lines as that takes.
    setting : KeySetting
        What the user set on it.
    slim : bool
        Whether it gives way to others: without distribution and texts.
    wide : float
        How wide it is in full.
    words : tuple of (float, str)
        Values that stand for something, and for what, in the place of numbers.
    units : InUnits
        What shows its numbers.
    """

    quantity: Quantity
    spread: Distribution
    low: float
    high: float
    left: float
    top: float
    height: float
    axis: tuple[float, float]
    beads: tuple[tuple[str, float], ...]
    title: str
    told: tuple[str, ...]
    setting: KeySetting
    slim: bool = False
    wide: float = WIDTH
    words: tuple[tuple[float, str], ...] = ()
    units: InUnits = field(default_factory=InUnits)

    @property
    def shown(self) -> Shown:
        """What its numbers are shown in."""
        return self.units.of(self.quantity)

    @property
    def width(self) -> float:
        """How wide it is."""
        return SLIM if self.slim else self.wide

    @property
    def bar_left(self) -> float:
        """Left edge of the bar."""
        return self.left + (0.5 * (SLIM - BAR) if self.slim else 8 + SPREAD)

    @property
    def bar_right(self) -> float:
        """Right edge of the bar."""
        return self.bar_left + BAR

    @property
    def bar_top(self) -> float:
        """Upper end of the bar."""
        if self.slim:
            return self.top + 42
        return self.top + 42 + LINE * (len(self.told) - 1)

    @property
    def bar_bottom(self) -> float:
        """Lower end of the bar."""
        return self.top + self.height - (24 if self.slim else 12)

    def holds(self, x: float, y: float) -> bool:
        """Whether a place is on the key."""
        return self.left <= x <= self.left + self.width and self.top <= y <= self.top + self.height

    @property
    def log(self) -> bool:
        """Whether heights go by the logarithm."""
        return self.setting.is_log(self.quantity.scale, *self.axis)

    def y_of(self, value: float) -> float:
        """Height of a value on the bar."""
        a, b = self.axis
        if self.log:
            a, b, value = math.log(a), math.log(b), math.log(max(value, a))
        share = (value - a) / (b - a) if b > a else 0.5
        return self.bar_bottom - min(max(share, 0.0), 1.0) * (self.bar_bottom - self.bar_top)

    def value_at(self, y: float) -> float:
        """The value at a height."""
        a, b = self.axis
        share = min(max((self.bar_bottom - y) / (self.bar_bottom - self.bar_top), 0.0), 1.0)
        return a * (b / a) ** share if self.log else a + share * (b - a)

    def marks(self) -> tuple[Mark, ...]:
        """All that it is drawn by, from the back."""
        if self.slim:
            return self._slim_marks()
        head: list[Mark] = [Plate((self.left, self.top, self.wide, self.height), Tint("panel", 0.88), Tint("line"), 6.0),
                Words((self.left + 8, self.top + 17), self.title, _TITLE, Tint("ink"), bold=True),
                *(Words((self.left + 8, self.top + 31 + LINE * n), line, _SMALL, Tint("soft")) for n, line in enumerate(self.told))]
        return (*head, *self._silhouette(), *self._bar(), *self._extremes(), *self._numbers())

    def _slim_marks(self) -> tuple[Mark, ...]:
        """Bar, range and beads only."""
        x = self.left + 8
        out: list[Mark] = [Plate((self.left, self.top, SLIM, self.height), Tint("panel", 0.88), Tint("line"), 6.0),
                           Words((x, self.top + 17), self.title, _TITLE, Tint("ink"), bold=True),
                           Words((x, self.bar_top - 6), self.text_of(self.high), _SMALL, Tint("ink")),
                           Words((x, self.bar_bottom + 15), self.text_of(self.low), _SMALL, Tint("ink")), *self._bar()]
        for _layer, value in self.beads:
            y = self.y_of(value)
            out += [Path(((self.bar_left + BEAD, y), (self.bar_right + 4, y)), None, Tint("magenta"), 1.5),
                    Dot((self.bar_left + BEAD, y), 5.0, Tint("magenta"), Tint("magenta"), 1.5)]
        return tuple(out)

    def text_of(self, value: float) -> str:
        """A number, with as many digits as the user set."""
        number, notation = self.shown.of(value), self.units.setting.notation
        return number_text(number, self.setting.digits or self.units.setting.digits or (3 if self.slim else 4), notation)

    def rounded(self, value: float) -> float:
        """A value that is a round number as it is shown."""
        return self.shown.back(float(f"{self.shown.of(value):.4g}"))

    def extremes(self) -> tuple[tuple[str, float], ...]:
        """The least and the greatest value of all, where the bar shows them."""
        a, b = self.axis
        return tuple((name, value) for name, value in (("least", self.spread.low), ("greatest", self.spread.high)) if a <= value <= b)

    def _extremes(self) -> list[Mark]:
        """Small notches at the least and the greatest value."""
        out: list[Mark] = []
        for _name, value in self.extremes():
            y, x = self.y_of(value), self.bar_left
            out.append(Path(((x - 1, y), (x - 7, y - 3.5), (x - 7, y + 3.5), (x - 1, y)), Tint("ink"), None))
        return out

    def _silhouette(self) -> list[Mark]:
        counts, (a, b) = self.spread.counts, self.spread.span
        if counts.max() == 0 or not b > a:
            return []
        edge = self.bar_left - 4
        shape = [(edge, self.y_of(a))]
        for n, share in enumerate(np.sqrt(counts / counts.max())):
            x = edge - float(share) * (SPREAD - 4)
            shape += [(x, self.y_of(a + (b - a) * (n + m) / len(counts))) for m in (0, 1)]
        return [Path((*shape, (edge, self.y_of(b))), Tint("soft", 0.45))]

    def _bar(self) -> list[Mark]:
        look = self.setting.palette or self.quantity.scale
        table = palette(look, self.low, self.high, self.setting.bands, flipped=self.setting.flipped)
        out: list[Mark] = []
        for n in range(int(self.bar_bottom - self.bar_top)):
            value = self.value_at(self.bar_top + n + 0.5)
            share = (self.y_of(self.low) - self.bar_top - n - 0.5) / max(self.y_of(self.low) - self.y_of(self.high), 1e-9)
            r, g, b, _ = (int(c) for c in table[int(min(max(share, 0.0), 0.9999) * len(table))])
            tint = Tint(f"#{r:02x}{g:02x}{b:02x}")
            if not self.low <= value <= self.high:
                if self.setting.beyond == "nothing":
                    continue
                tint = Tint(_GREY) if self.setting.beyond == "grey" else Tint(tint.role, 0.35)
            out.append(Plate((self.bar_left, self.bar_top + n, BAR, 1.2), tint))
        return [*out, Plate((self.bar_left, self.bar_top, BAR, self.bar_bottom - self.bar_top), None, Tint("soft"))]

    def _numbers(self) -> list[Mark]:
        right = self.bar_right
        out: list[Mark] = []
        taken: list[float] = []
        for value in (self.high, self.low):
            y = self.y_of(value)
            out.append(Path(((right + 1, y), (right + 9, y - 5), (right + 9, y + 5), (right + 1, y)), Tint("panel"), Tint("ink")))
            if not self.words:
                out.append(Words((right + 13, y + 4), self.text_of(value), _NUMBER, Tint("ink")))
            taken.append(y)
        for value, word in self.words:
            y = self.y_of(value)
            out += [Path(((right, y), (right + 5, y)), None, Tint("ink")), Words((right + 13, y + 4), word, _SMALL, Tint("ink"))]
        middle = {"signed": 0.0, "mach": 1.0}.get(self.quantity.scale)
        if middle is not None and self.low < middle < self.high and all(abs(self.y_of(middle) - y) > 16 for y in taken):
            y = self.y_of(middle)
            out += [Path(((right, y), (right + 5, y)), None, Tint("ink")),
                    Words((right + 13, y + 4), self.text_of(middle), _NUMBER, Tint("soft"))]
            taken.append(y)
        for _layer, value in self.beads:
            y = self.y_of(value)
            beside = y if all(abs(y - other) > 15 for other in taken) else next(
                (y + d for d in (16, -16, 32, -32) if all(abs(y + d - o) > 14 for o in taken)), y)
            out += [Path(((self.bar_left + BEAD, y), (right + 4, y)), None, Tint("magenta"), 1.5),
                    Dot((self.bar_left + BEAD, y), 5.0, Tint("magenta"), Tint("magenta"), 1.5),
                    Words((right + 13, beside + 4), self.text_of(value), _NUMBER, Tint("magenta"), bold=True)]
            taken.append(beside)
        return out


def key_faces(study: Study, evaluator: Evaluator, key_of: KeyOf, size: tuple[float, float], measure: Measure,
              held: Mapping[str, tuple[float, float]] | None = None, full: Collection[str] | None = None) -> list[KeyFace]:
    """The keys of all that is drawn, from the left, as many as fit into a view.

    Parameters
    ----------
    study, evaluator : Study, Evaluator
        What is drawn, and of what.
    key_of : callable
        Distribution and range of a quantity; None where they are not known yet.
    size : tuple of float
        Width and height of the view.
    measure : callable
        Widths of texts.
    held : mapping, optional
        Axes of keys that stay while one of their grips is dragged.
    full : collection, optional
        Quantities whose keys are shown in full while others give way; all where nothing is said.
    """
    names: dict[str, list[tuple[str, float]]] = {}
    for layer in study.layers:
        if not study.is_drawn(layer):
            continue
        for name in (layer.look.colour_by, *(d.coloured_by() for d in layer.look.dressings())):
            if name:
                names.setdefault(name, [])
        for number, (name, value) in enumerate(layer.shape.levels()):
            names.setdefault(name, []).append((f"{layer.id}#{number}" if number else layer.id, value))
    found: list[KeyFace] = []
    (width, height), right, units = size, LEFT, in_units(study.units, evaluator.store)
    shown = [name for name in names if not study.keys.get(name, KeySetting()).hidden and key_of(name) is not None]
    for name in shown:
        beads, known = names[name], key_of(name)
        slim = full is not None and len(shown) > 1 and name not in full
        words = _words(name, known[0]) if known is not None else ()
        wide = max([WIDTH, *(WORDS_AT + measure(word, _SMALL, False) for _, word in words)])
        own, place = SLIM if slim else wide, study.keys.get(name, KeySetting()).place
        if known is None or (place is None and right + own > width - 8):
            continue
        spread, low, high = known
        axis = (min(spread.span[0], low, *(v for _, v in beads)), max(spread.span[1], high, *(v for _, v in beads)))
        quantity = evaluator.store.describe(name)
        setting = study.keys.get(name, KeySetting())
        if setting.is_log(quantity.scale, low, high):
            axis = (min([low, *(v for _, v in beads if v > 0.0)]), max([high, *(v for _, v in beads)]))
        axis = (held or {}).get(name, axis)
        if axis[0] == axis[1]:
            axis = (low, high)
        unit = units.of(quantity).text
        short = f"{quantity.symbol} [{unit}]" if unit else quantity.symbol
        short = short if measure(short, _TITLE, True) <= own - 12 else quantity.symbol
        title = cut_short(setting.title or (short if slim else quantity.title), own - 12, _TITLE, True, measure)
        told = _told(quantity, unit, evaluator.flow.si_units, spread.coarse, measure)
        tall = min(HEIGHT, height - 40)
        left, top = (right, TOP) if place is None else (place[0] * (width - own), place[1] * (height - tall))
        found.append(KeyFace(quantity, spread, low, high, left, top, tall, axis, tuple(beads), title, told, setting, slim, wide, words,
                             units))
        right += own + GAP if place is None else 0.0
    return found


def _words(name: str, spread: Distribution) -> tuple[tuple[float, str], ...]:
    """What the values of a quantity stand for: of those that occur."""
    codes = CODES.get(name, {})
    if spread.low == spread.high:
        return ((spread.low, codes[int(spread.low)]),) if spread.low in codes else ()
    begin, end = spread.span
    width = (end - begin) / len(spread.counts)
    at = {code: min(int((code - begin) / width), len(spread.counts) - 1) for code in codes if begin <= code <= end}
    return tuple((float(code), codes[code]) for code, n in at.items() if spread.counts[n] > 0)


def _told(quantity: Quantity, unit: str, si_units: bool, first_look: bool, measure: Measure) -> tuple[str, ...]:
    plain = quantity.name in BY_NAME and not BY_NAME[quantity.name].unit
    unit = unit or ("" if si_units or plain else "file units")
    text = " · ".join(t for t in (unit, "first look…" if first_look else quantity.made) if t)
    lines: list[str] = []
    for word in text.split(" "):
        longer = f"{lines[-1]} {word}" if lines else word
        if lines and measure(longer, _SMALL, False) <= WIDTH - 12:
            lines[-1] = longer
        else:
            lines.append(word)
    return tuple(cut_short(line, WIDTH - 12, _SMALL, False, measure) for line in lines)
