"""Boundaries: what kind each is and why, and the user's own word; a look into one."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Picker, column, label
from tidal_lens.app.stations.rows import Facts, Row, Section
from tidal_lens.flow.case import KINDS, Boundary, Flow
from tidal_lens.measures.inspect import boundary_area
from tidal_lens.study.words import number_text

_MOST = 60


class BoundariesControls(QWidget):
    """One row a boundary, with a chooser of its kind."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.section = Section("Boundaries")
        self.pickers: dict[str, Picker] = {}
        self._rows: dict[str, Row] = {}
        self._shown: tuple[object, ...] = ()
        self.group_pickers: dict[str, Picker] = {}
        column(self, self.section)
        document.study_changed.connect(lambda: self.refresh(document.flow) if document.flow is not None else None)

    def refresh(self, flow: Flow) -> None:
        """Show the boundaries in force."""
        groups = self.document.study.groups
        facts = ([(b.name, b.kind, b.reason) for b in flow.boundaries], groups)
        if facts == self._shown:
            return
        self._shown = facts
        self.section.clear()
        self.pickers, self.group_pickers, self._rows = {}, {}, {}
        kinds = {b.name: b.kind for b in flow.boundaries}
        for name, members in groups.items():
            there = {kinds[m] for m in members if m in kinds}
            holder = QWidget()
            picker = Picker(f"Kind of all in {name}", "What all boundaries of this group are")
            picker.offer(KINDS, KINDS.index(there.pop()) if len(there) == 1 else -1)
            picker.activated.connect(lambda at, group=name: self._pick_all(group, at))
            self.group_pickers[name] = picker
            column(holder, Row(name, ", ".join(members), f"group of {len(members)}", name, open_=False), picker, spacing=2)
            self.section.add(holder)
        for boundary in flow.boundaries[:_MOST]:
            holder = QWidget()
            one = Row(boundary.name, boundary.reason, f"{len(boundary.faces):,} faces", boundary.name, open_=True)
            one.chosen.connect(self._look)
            picker = Picker(f"Kind of {boundary.name}", "What this boundary is: it decides what counts as wall, and where the stream "
                            "comes from")
            texts = [*KINDS, *(["As found"] if boundary.name in self.document.study.kinds else [])]
            picker.offer(texts, KINDS.index(boundary.kind))
            picker.activated.connect(lambda at, name=boundary.name: self._pick(name, at))
            self.pickers[boundary.name], self._rows[boundary.name] = picker, one
            column(holder, one, picker, spacing=2)
            self.section.add(holder)
        if len(flow.boundaries) > _MOST:
            self.section.add(label(f"and {len(flow.boundaries) - _MOST} more", "soft"))
        self.section.title = f"Boundaries ({len(flow.boundaries)})"
        self.section.rename()

    def _pick(self, name: str, at: int) -> None:
        study = self.document.study
        said = {n: k for n, k in study.kinds.items() if n != name}
        if at < len(KINDS):
            said = {**said, name: KINDS[at]}
        self.document.edit(study.with_(kinds=said), f"Kind of {name}")

    def _pick_all(self, group: str, at: int) -> None:
        study = self.document.study
        members = study.groups.get(group, ())
        self.document.edit(study.with_(kinds={**study.kinds, **dict.fromkeys(members, KINDS[at])}), f"Kind of {group}")

    def _look(self, name: str) -> None:
        flow = self.document.flow
        one = self._rows[name]
        boundary = next((b for b in flow.boundaries if b.name == name), None) if flow is not None else None
        if one.more is not None or boundary is None:
            one.show_more(None)
        else:
            one.show_more(_facts(boundary, self.document))


def _facts(boundary: Boundary, document: Document) -> Facts:
    low, high = boundary.points.min(axis=0), boundary.points.max(axis=0)
    bounds = "\n".join(f"{axis}  {number_text(float(low[a]))} … {number_text(float(high[a]))}" for a, axis in enumerate("xyz"))
    origin = "found from outer faces" if boundary.found else "named in the file"
    middle = tuple(float(c) for c in 0.5 * (low + high))
    return Facts([("points", f"{len(boundary.points):,}"), ("area", number_text(boundary_area(boundary), 5)), ("bounds", bounds),
                  ("origin", origin)], [("Go there", lambda: document.visit.emit((middle[0], middle[1], middle[2])))])
