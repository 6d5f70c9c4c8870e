"""The user's formulas, understood: each after those that it names."""

from __future__ import annotations

import re
from typing import Any

from tidal_lens.flow.case import Flow
from tidal_lens.quantities.formula.parse import parse
from tidal_lens.quantities.formula.tree import Formula, FormulaError
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.names import FORMULA, OLD_NAMES, NameTable


class Book:
    """Formulas of a flow, and what is wrong with those that are not understood.

    Parameters
    ----------
    flow : Flow
        The flow.
    methods : Methods
        Choices, and the user's formulas.
    """

    def __init__(self, flow: Flow, methods: Methods) -> None:
        self.flow = flow
        self.methods = methods
        self._below: dict[str, set[str]] = {}  # formulas on which each formula rests, in an order in which they can be computed
        self.formulas: dict[str, Formula | FormulaError] = {}
        self._shapes: dict[str, Any] = {}
        self._understand()

    def _understand(self) -> None:
        """Check the user's formulas, each after those that it names; what is in a circle is told."""
        texts = dict(self.methods.formulas)
        waiting = dict(texts)
        shapes: dict[str, Any] = {}
        while waiting:
            table = NameTable(self.flow, shapes)
            names = [n for n, _ in table.offered()]
            done: list[str] = []
            for name, text in waiting.items():
                try:
                    found = parse(text, table.resolve, [*names, *waiting], old=OLD_NAMES, understood=True)
                except FormulaError as error:
                    if not _words(text) & waiting.keys():
                        self.formulas[name] = error
                        done.append(name)
                    continue
                self.formulas[name] = found
                self._below[name] = {n for key in found.root.keys if key.startswith(FORMULA)
                                     for n in (key[len(FORMULA):], *self._below[key[len(FORMULA):]])}
                shapes[name] = ("scalar" if found.root.shape == "condition" else found.root.shape, found.root.unit)
                done.append(name)
            if not done:
                break
            for name in done:
                del waiting[name]
        for name, text in waiting.items():
            self.formulas[name] = self._why_not(name, text, waiting, shapes)
        self._shapes = shapes
        self.formulas = {name: self.formulas[name] for name in texts}

    def _why_not(self, name: str, text: str, waiting: dict[str, str], shapes: dict[str, Any]) -> FormulaError:
        reached = _reached(name, waiting)
        if name in reached:
            at = max(text.find(min(_words(text) & reached)), 0)
            return FormulaError(f"The formula {name} comes back to itself" + (f" by way of {', '.join(sorted(reached - {name}))}."
                                                                               if reached - {name} else "."), at, len(text),
                                "Take one of them out of the circle.")
        try:
            parse(text, NameTable(self.flow, shapes).resolve, [*waiting], old=OLD_NAMES, understood=True)
        except FormulaError as error:
            return error
        return FormulaError("The formula rests on one that is not understood.", 0, len(text))

    def check(self, text: str, name: str = "") -> Formula:
        """Understand a formula that is being typed in the place of the one of a name.

        Raises
        ------
        FormulaError
            It is not understood, or it would come back to itself.
        """
        resting = {n for n in self._shapes if name and name in self._below[n]}
        shapes = {n: s for n, s in self._shapes.items() if n != name and n not in resting}
        table = NameTable(self.flow, shapes)
        try:
            return parse(text, table.resolve, [n for n, _ in table.offered()], old=OLD_NAMES)
        except FormulaError as error:
            word = text[error.begin:error.end].strip("`")
            if name and (word == name or word in resting):
                raise FormulaError(f"{word} rests on {name}: the formula would come back to itself.", error.begin, error.end) from None
            raise

    def names(self) -> list[tuple[str, str]]:
        """Names that formulas can use, with what they are."""
        return NameTable(self.flow, self._shapes).offered()

    def dependants(self, name: str) -> list[str]:
        """The user's formulas that use a formula, directly or by way of others."""
        return [n for n in self.formulas if name in self._below.get(n, ())]

    def below(self, key: str) -> list[str]:
        """Formulas on which a formula rests, in an order in which they can be computed; none for another quantity."""
        own = self._below.get(plain(key)[len(FORMULA):], ()) if key.startswith(FORMULA) else ()
        return [f"{FORMULA}{n}" for n in self._below if n in own]


def plain(key: str) -> str:
    """The formula of which a key names a component."""
    return key[:-2] if key.startswith(FORMULA) and key[-2:] in (".x", ".y", ".z") else key


def _reached(name: str, texts: dict[str, str]) -> set[str]:
    """Names that one formula's text leads to."""
    out: set[str] = set()
    todo = [name]
    while todo:
        for other in (_words(texts.get(todo.pop(), "")) & texts.keys()) - out:
            out.add(other)
            todo.append(other)
    return out


def _words(text: str) -> set[str]:
    """Names in a text, those in backticks too."""
    return {quoted or plain for quoted, plain in re.findall(r"`([^`]*)`|([^\W\d]\w*)", text)}
