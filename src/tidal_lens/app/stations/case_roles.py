"""Which arrays are velocity, pressure and so on: what was recognised and why, and the user's own word."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Picker, column, label, row
from tidal_lens.app.stations.rows import Section
from tidal_lens.flow.case import Flow
from tidal_lens.flow.roles import ROLE_NAMES, VECTOR_ROLES, vector_candidates

_SHOWN = ("velocity", "momentum", "pressure", "density", "temperature", "viscosity", "energy")
_Names = tuple[str, ...]


class RolesControls(QWidget):
    """One chooser a role, and the reason for what is chosen."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.section = Section("Roles")
        self.pickers: dict[str, Picker] = {}
        self.reasons = {role: label("", "soft") for role in _SHOWN}
        self._holders: dict[str, QWidget] = {}
        self._choices: dict[str, list[_Names | None]] = {}
        for role in _SHOWN:
            one = Picker(f"{ROLE_NAMES[role]} arrays", f"Arrays that are the {ROLE_NAMES[role].lower()}")
            one.activated.connect(lambda at, r=role: self._pick(r, at))
            self.pickers[role] = one
            holder = QWidget()
            self.reasons[role].setContentsMargins(82, 0, 0, 2)
            column(holder, row(ROLE_NAMES[role], one, stretch=1, lead=76), self.reasons[role], spacing=0)
            self._holders[role] = holder
            self.section.add(holder)
        column(self, self.section)

    def refresh(self, flow: Flow) -> None:
        """Show the roles in force."""
        components = {f.name: f.components for f in flow.fields.values()}
        vectors = vector_candidates(components)
        scalars: list[_Names] = [(n,) for n, c in components.items() if c == 1]
        told = flow.roles.described()
        for role in _SHOWN:
            own = flow.roles.fields(role)
            offered = vectors if role in VECTOR_ROLES else scalars
            choices: list[_Names | None] = [(), *offered]
            if own not in choices:
                choices.append(own)
            texts = ["none" if not c else ", ".join(c) for c in choices]
            if not own and told.get(role):
                texts[0] = told[role]
            if role in self.document.study.roles:
                choices.append(None)
                texts.append("As recognised")
            self._choices[role] = choices
            self.pickers[role].offer(texts, choices.index(own))
            reason = flow.roles.reasons.get(role, "")
            self.reasons[role].setText(reason)
            self.reasons[role].setVisible(bool(reason))
            # What velocity and pressure can also come from is of interest where they are not there.
            direct = {"momentum": "velocity", "energy": "pressure"}.get(role)
            wanted = direct is None or bool(own) or not flow.roles.fields(direct) or role in self.document.study.roles
            self._holders[role].setVisible(wanted)
        if not flow.roles.has_velocity:
            self.reasons["velocity"].setText("not recognised: choose the arrays that are it, or momentum and density")
            self.reasons["velocity"].show()

    def _pick(self, role: str, at: int) -> None:
        choice = self._choices[role][at]
        study = self.document.study
        said: dict[str, _Names] = {r: names for r, names in study.roles.items() if r != role}
        if choice is not None:
            said[role] = choice
        self.document.edit(study.with_(roles=said), f"{ROLE_NAMES[role]} role")
