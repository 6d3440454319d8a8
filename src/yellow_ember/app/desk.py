"""Desk: the strips as a tree, tracks under the bus they feed, the master last."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QInputDialog, QMenu, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from yellow_ember.app import theme
from yellow_ember.app.layouts import clear
from yellow_ember.app.level import draw_level
from yellow_ember.app.value_bar import ValueBar
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.parameters import Group, Number
from yellow_ember.session.edits import add_bus, edit_strip, remove_strip, route
from yellow_ember.session.model import LOUDEST_DB, SILENT_DB, Session, Strip, StripKind

ROW = 40
_INDENT = 12
_BUTTON = 18

VOLUME = Number(id="volume_db", label="Volume", unit="dB", minimum=SILENT_DB, maximum=LOUDEST_DB, default=0.0,
                group=Group.OUTPUT, floor_word="silent", help="The strip's level into what it feeds.")
PAN = Number(id="pan", label="Pan", unit="", minimum=-100.0, maximum=100.0, default=0.0, decimals=0,
             group=Group.OUTPUT, help="Where the strip stands between left and right.")


class StripRow(QWidget):
    """One strip: name, stage glyphs, level, heat, mute, solo."""

    def __init__(self, workspace: Workspace, strip: Strip, depth: int) -> None:
        super().__init__()
        self._workspace = workspace
        self.strip_id = strip.id
        self._depth = depth
        self._vu = 0.0
        self._peak = 0.0
        self._shown: tuple[object, ...] = ()
        self.setFixedHeight(ROW)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.refresh()

    @property
    def _strip(self) -> Strip:
        return self._workspace.session.strip(self.strip_id)

    def refresh(self) -> None:
        """Show the strip as it is now."""
        strip = self._strip
        shown = (strip.name, strip.mute, strip.solo, tuple((stage.kind, stage.on) for stage in strip.chain),
                 self._workspace.strip_id == self.strip_id)
        if shown == self._shown:
            return
        self._shown = shown
        states = [word for word, on in (("muted", strip.mute), ("solo", strip.solo)) if on]
        stages = ", ".join(stage.declaration.label for stage in strip.chain) or "no stages"
        self.setAccessibleName(f"{strip.kind.value} {strip.name}")
        self.setAccessibleDescription("; ".join((*states, stages)))
        self.setToolTip(f"<b>{strip.name}</b> ({strip.kind.value}): {stages}<br>M mutes, S plays it alone.")
        self.update()

    def show_levels(self) -> None:
        """Take the newest levels."""
        engine = self._workspace.engine
        reading = engine.reading(self.strip_id) if engine is not None else None
        vu, peak = (float(reading.vu.max()), float(reading.peak.max())) if reading is not None else (0.0, 0.0)
        if vu != self._vu or peak != self._peak:
            self._vu, self._peak = vu, max(peak, self._peak * 0.93)
            self.update(self._level_box().toAlignedRect())

    def _button_box(self, place: int) -> QRectF:
        return QRectF(self.width() - 8 - (2 - place) * (_BUTTON + 3), 4, _BUTTON, 15)

    def _level_box(self) -> QRectF:
        left = 10 + self._depth * _INDENT
        return QRectF(left, ROW - 13, self.width() - left - 8, 6)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        strip, workspace = self._strip, self._workspace
        chosen = workspace.strip_id == self.strip_id
        if chosen:
            painter.fillRect(self.rect(), theme.RAISED)
            painter.fillRect(QRectF(0, 0, 3, ROW), theme.AFTER)
        if self.hasFocus():
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        left = 10 + self._depth * _INDENT
        painter.setFont(theme.font(9.5, bold=strip.kind is not StripKind.TRACK))
        painter.setPen(theme.DIM if strip.mute else theme.TEXT)
        glyphs = 17 * len(strip.chain[:4])
        room = self._button_box(0).left() - left - glyphs - 6
        name = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(QRectF(left, 2, room, 20), int(Qt.AlignmentFlag.AlignVCenter), name)
        self._paint_glyphs(painter, strip, self._button_box(0).left() - glyphs - 3)
        for place, (letter, on, colour) in enumerate((("M", strip.mute, theme.BEFORE), ("S", strip.solo, theme.AFTER))):
            box = self._button_box(place)
            painter.setPen(QPen(colour if on else theme.EDGE, 1.0))
            painter.setBrush(colour if on else theme.PANEL)
            painter.drawRoundedRect(box, 2, 2)
            painter.setPen(theme.GROUND if on else theme.DIM)
            painter.setFont(theme.font(8, bold=True))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), letter)
        draw_level(painter, self._level_box(), self._vu, self._peak, workspace.session.reference_dbfs)
        found = workspace.measurer.latest(self.strip_id)
        if found is not None and strip.chain:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.heat_colour(found.comparison.heat_db))
            box = self._level_box()
            painter.drawRect(QRectF(box.left(), box.bottom() + 2, box.width(), 2.5))

    def _paint_glyphs(self, painter: QPainter, strip: Strip, x: float) -> None:
        painter.setFont(theme.font(7.5, bold=True))
        for stage in strip.chain[:4]:
            box = QRectF(x, 4.5, 14, 14)
            painter.setPen(QPen(theme.AFTER if stage.on else theme.EDGE, 1.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(box)
            painter.setPen(theme.TEXT if stage.on else theme.DIM)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), stage.declaration.glyph)
            x += 17

    # -- hands --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = QPointF(event.position())
        if event.button() == Qt.MouseButton.LeftButton and self._button_box(0).contains(point):
            self.toggle("mute")
        elif event.button() == Qt.MouseButton.LeftButton and self._button_box(1).contains(point):
            self.toggle("solo")
        else:
            self._workspace.select(self.strip_id)

    def toggle(self, which: str) -> None:
        """Switch mute or solo."""
        state = not getattr(self._strip, which)
        label = f"{which.capitalize()} {self._strip.name}"
        self._workspace.document.commit(label, edit_strip(
            self._workspace.session, self.strip_id, lambda strip: strip.with_(**{which: state})))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_M if not event.modifiers():
                self.toggle("mute")
            case Qt.Key.Key_S if not event.modifiers():
                self.toggle("solo")
            case Qt.Key.Key_Up | Qt.Key.Key_Down:
                rows = [strip.id for strip, _ in self._workspace.session.depth_first()]
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                at = min(max(rows.index(self.strip_id) + step, 0), len(rows) - 1)
                self._workspace.select(rows[at])
            case Qt.Key.Key_F2:
                self.rename()
            case _:
                super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        session, strip = self._workspace.session, self._strip
        menu = QMenu(self)
        menu.addAction("Rename", self.rename)
        if strip.kind is not StripKind.MASTER:
            feeds = menu.addMenu("Feeds")
            assert feeds is not None
            for bus in session.strips:
                if bus.kind is not StripKind.TRACK and bus.id not in session.upstream(strip.id):
                    action = feeds.addAction(bus.name, lambda chosen=bus.id: self._route(chosen))
                    assert action is not None
                    action.setCheckable(True)
                    action.setChecked(bus.id == strip.out)
            menu.addAction("Remove", self._remove)
        menu.addSeparator()
        menu.addAction("Add bus", lambda: self._workspace.document.commit(
            "Add bus", add_bus(self._workspace.session, "Bus")))
        menu.popup(event.globalPos())

    def rename(self) -> None:
        name, accepted = QInputDialog.getText(self, "Rename", "Name", text=self._strip.name)
        if accepted and name.strip():
            self._workspace.document.commit(f"Rename {self._strip.name}", edit_strip(
                self._workspace.session, self.strip_id, lambda strip: strip.with_(name=name.strip())))

    def _route(self, out: str) -> None:
        self._workspace.document.commit(f"Route {self._strip.name}",
                                        route(self._workspace.session, self.strip_id, out))

    def _remove(self) -> None:
        self._workspace.document.commit(f"Remove {self._strip.name}",
                                        remove_strip(self._workspace.session, self.strip_id))


class Desk(QWidget):
    """The rows, and below them the chosen strip's fader and pan."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._workspace = workspace
        self.rows: dict[str, StripRow] = {}
        self._shape: list[tuple[str, int]] = []
        self._inside = QWidget()
        self._inside.setObjectName("panel")
        self._list = QVBoxLayout(self._inside)
        self._list.setContentsMargins(0, 4, 0, 4)
        self._list.setSpacing(0)
        scroll = QScrollArea()
        scroll.setWidget(self._inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.volume, self.pan = ValueBar(VOLUME), ValueBar(PAN)
        for bar in (self.volume, self.pan):
            name = bar.parameter.id
            bar.changing.connect(lambda value, field=name: self._set(field, value))
            bar.committed.connect(lambda _value, label=bar.parameter.label: workspace.document.commit(
                f"{label} of {workspace.strip.name}"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(4)
        layout.addWidget(scroll)
        faders = QVBoxLayout()
        faders.setContentsMargins(6, 0, 6, 0)
        faders.setSpacing(3)
        faders.addWidget(self.volume)
        faders.addWidget(self.pan)
        layout.addLayout(faders)
        workspace.session_changed.connect(self.refresh)
        workspace.selected.connect(self._on_selected)
        workspace.measurer.changed.connect(self._repaint_rows)
        workspace.frame.connect(self._on_frame)
        self.refresh(workspace.session)

    def sizeHint(self) -> QSize:
        return QSize(236, 400)

    def refresh(self, session: Session) -> None:
        """Show the session's strips."""
        shape = [(strip.id, depth) for strip, depth in session.depth_first()]
        if shape != self._shape:
            had_focus = any(row.hasFocus() for row in self.rows.values())
            self._build(shape)
            if had_focus:
                self.rows[self._workspace.strip_id].setFocus()
        for row in self.rows.values():
            row.refresh()
        self.volume.show_value(self._workspace.strip.volume_db)
        self.pan.show_value(self._workspace.strip.pan)

    def _build(self, shape: list[tuple[str, int]]) -> None:
        clear(self._list)
        self.rows = {}
        for strip_id, depth in shape:
            row = StripRow(self._workspace, self._workspace.session.strip(strip_id), depth)
            self.rows[strip_id] = row
            self._list.addWidget(row)
        self._list.addStretch(1)
        self._shape = shape

    def _on_selected(self) -> None:
        chosen = self.rows.get(self._workspace.strip_id)
        if chosen is not None and any(row.hasFocus() for row in self.rows.values()):
            chosen.setFocus()
        self.refresh(self._workspace.session)

    def _on_frame(self, _state: object) -> None:
        for row in self.rows.values():
            row.show_levels()

    def _repaint_rows(self) -> None:
        for row in self.rows.values():
            row.update()

    def _set(self, field: str, value: float) -> None:
        self._workspace.document.change(edit_strip(
            self._workspace.session, self._workspace.strip_id, lambda strip: strip.with_(**{field: value})))
