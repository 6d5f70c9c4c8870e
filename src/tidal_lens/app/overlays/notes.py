"""Notes over the picture: moved by a drag, their arrows by the bead at the end; a double click types the text."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen

from tidal_lens.app import theme
from tidal_lens.app.overlays.base import Quiet, near
from tidal_lens.app.overlays.painting import measure, paint_marks
from tidal_lens.app.stage import Stage
from tidal_lens.formats.pictures import kept_picture
from tidal_lens.scene.note_marks import NoteFace, note_face
from tidal_lens.study.noted import known_now, with_note
from tidal_lens.study.notes import Note, filled

_TALL = 640.0  # of the view that offsets are meant for
_REACH = 9.0


class NotesOverlay(Quiet):
    """All notes that are shown."""

    def __init__(self, view: Stage) -> None:
        self._view = view
        self._held: tuple[str, str] | None = None  # which note, and what of it
        self._offset = QPointF()

    def faces(self) -> list[NoteFace]:
        """Notes as they stand in the view."""
        view, document = self._view, self._view.document
        camera, evaluator = view.shown_camera, view.case.evaluator
        notes = [n for n in document.study.notes if n.shown]
        if camera is None or evaluator is None or not notes:
            return []
        known = known_now(document.study, evaluator, view.case.asking.results)
        size = float(view.width()), float(view.height())
        unit = "m" if evaluator.flow.si_units else ""
        return [note_face(n, filled(n.text, known), camera, size, measure, kept_picture, unit) for n in notes]

    def paint(self, p: QPainter) -> None:
        for face in self.faces():
            paint_marks(p, face.marks)
            if face.note.id == self._view.document.noted:
                p.setPen(QPen(theme.colour("magenta"), 1.2))
                p.setBrush(Qt.BrushStyle.NoBrush)
                left, top, wide, high = face.box
                p.drawRoundedRect(round(left) - 2, round(top) - 2, round(wide) + 4, round(high) + 4, 6, 6)
                if face.tip is not None:
                    p.setBrush(theme.colour("magenta"))
                    p.drawEllipse(QPointF(*face.tip), 4.5, 4.5)

    def _find(self, at: QPointF) -> tuple[NoteFace, str] | None:
        for face in reversed(self.faces()):
            if face.tip is not None and face.note.id == self._view.document.noted and near(at, QPointF(*face.tip), _REACH):
                return face, "tip"
            if face.holds(at.x(), at.y()):
                return face, "box"
        return None

    def grasp(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        face, what = found
        self._held = face.note.id, what
        self._offset = at - QPointF(face.box[0], face.box[1])
        self._view.document.note(face.note.id)
        self._view.document.dragging = True
        return True

    def drag(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._held is None:
            return
        view, (name, what) = self._view, self._held
        face = next((f for f in self.faces() if f.note.id == name), None)
        if face is None:
            return
        note = face.note
        if what == "tip":
            hit = view.point_at(at)
            if hit is not None:
                self._take(note.with_(at=tuple(float(f"{c:.6g}") for c in hit)), f"note {name} tip")
            return
        corner = at - self._offset
        if note.hangs and face.tip is not None:
            scale = _TALL / view.height()
            self._take(note.with_(off=((corner.x() - face.tip[0]) * scale, (corner.y() - face.tip[1]) * scale)), f"note {name}")
        else:
            x, y = (min(max(c / size, -0.2), 1.0) for c, size in ((corner.x(), view.width()), (corner.y(), view.height())))
            self._take(note.with_(place=(round(x, 4), round(y, 4))), f"note {name}")

    def _take(self, note: Note, grip: str) -> None:
        document = self._view.document
        document.edit(with_note(document.study, note), "Move the note", grip)

    def let_go(self) -> None:
        self._held = None

    def double_click(self, at: QPointF) -> bool:
        found = self._find(at)
        if found is None:
            return False
        self._view.document.note(found[0].note.id, typing=True)
        return True

    def hint(self, at: QPointF) -> str:
        found = self._find(at)
        if found is None:
            return ""
        if found[1] == "tip":
            return "Drag the arrow to another place of the flow"
        return "Drag to move the note; double-click to change its text"
