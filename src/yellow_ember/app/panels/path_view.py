"""The chosen strip's path from left to right, with its level in dB against 0 VU at every point.

Drag a stage up to drive it harder: the level behind it falls by the same amount.  Drag it sideways
to move it, out of the picture to carry it to another strip.  Its foot switches it, its cross
removes it, the plus adds one.
"""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu, QWidget

from yellow_ember.app.panels import copying, dropping
from yellow_ember.app.panels.lane_menu import acting_words, add_acting_menu
from yellow_ember.app.state.asked_match import AskedMatch
from yellow_ember.app.state.dissector import Dissector
from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.state.tools import Tools
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.stage_chooser import StageChooser
from yellow_ember.app.tools.tool import dropped_files
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.glyphs import draw_glyph
from yellow_ember.app.widgets.level import against_vu
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.app.widgets.plot import Axes, draw_frame, draw_y_grid
from yellow_ember.dsp.parameters import as_pair
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.plain_text import with_minus
from yellow_ember.session.document import Settle, Trial
from yellow_ember.session.edits.edits import (
    drive_stage,
    edit_stage,
    move_stage,
    remove_stage,
    replace_stage,
    set_parameter,
    to_defaults,
)
from yellow_ember.session.values.model import Session, new_stage

_LOW, _HIGH = -30.0, 18.0
_DB_PER_PIXEL = 0.1
_HEAD, _FOOT = 20.0, 24.0
_WIDEST, _NARROWEST = 190.0, 104.0
_PLUS = 34.0


KEYS = (("Insert or +", "add a stage"), ("Left, Right", "choose a stage"), ("Ctrl+Left, Ctrl+Right", "move it"),
        ("Up, Down", "drive it; with Shift finer"), ("Backspace", "drive back to its default"), ("X", "bypass it"),
        ("S", "hear it alone"), ("Z", "level into its zone"), ("Delete", "remove it"),
        ("Drag", "drive it up and down, move it sideways"))
"""What it answers to, for the sheet of keys."""


class PathView(QWidget):
    """The picture of a strip's path, and the place where stages are added, moved and driven."""

    driven = pyqtSignal()
    """A stage was driven by the hand."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, jobs: JobKeeper, dissector: Dissector, tools: Tools) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback, self._settings = sessions, selection, playback, settings
        self._messages, self._jobs, self._dissector, self._tools = messages, jobs, dissector, tools
        self._gesture = Gesture(self._sessions)
        self._matches = AskedMatch(self._sessions, self._settings, self._messages, self._jobs)
        self._still: QPixmap | None = None
        self._vu: list[float] = []
        self._peak: list[float] = []
        self._press: QPointF | None = None
        self._driven = 0.0
        self._mode = ""
        self._drop_at: int | None = None
        self._solo: tuple[str, Trial] | None = None
        """The stage that is heard alone, and the trial by which the others rest."""
        self._scrolled = 0.0
        self.setMinimumHeight(150)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self._sessions.changed.connect(self._refresh)
        self._selection.changed.connect(self._refresh)
        self._playback.frame.connect(self._on_frame)
        self._dissector.changed.connect(self.draw_again)
        self._refresh()

    def sizeHint(self) -> QSize:
        return QSize(700, 210)

    def _refresh(self) -> None:
        strip = self._selection.strip
        if self._solo is not None and self._solo[0] not in {stage.id for stage in strip.chain}:
            # Another strip is shown: what rested there works again.
            trial, self._solo = self._solo[1], None
            trial.drop()
            return
        stages = ", ".join(f"{stage.declaration.label}{'' if stage.on else ' (off)'}" for stage in strip.chain)
        self.setAccessibleName(f"Path of {strip.name}")
        self.setAccessibleDescription(
            f"{stages or 'no stages'}. Left and right choose a stage, up and down drive it, Insert adds one, "
            "Delete removes it, X switches it, Control with left and right moves it.")
        self._scroll_to_chosen()
        self.draw_again()

    def _on_frame(self, _state: object) -> None:
        engine, points = self._playback.engine, len(self._selection.strip.chain) + 1
        reading = engine.reading(self._selection.strip_id) if engine is not None else None
        vu = [0.0] * points if reading is None else [float(x) for x in reading.point_vu[:points]]
        peak = [0.0] * points if reading is None else [float(x) for x in reading.point_peak[:points]]
        if vu != self._vu or peak != self._peak:
            self._vu = vu
            old = self._peak if len(self._peak) == points else [0.0] * points
            self._peak = [max(new, was * 0.93) for new, was in zip(peak, old, strict=True)]
            self.update()

    # -- geometry -----------------------------------------------------------------------

    def _axes(self) -> Axes:
        return Axes(QRectF(42, 28, self.width() - 54, self.height() - 36), 0.0, 1.0, _LOW, _HIGH)

    def columns(self) -> list[QRectF]:
        """A box for each stage."""
        frame = self._axes().frame
        count = len(self._selection.strip.chain)
        if count == 0:
            return []
        room = frame.width() - _PLUS - 40
        width = max(min(_WIDEST, room / count - 14), _NARROWEST)
        # Where they do not all fit, the chosen one and what is behind it are in sight.
        beyond = max(count * (width + 14) - room, 0.0)
        left = frame.left() + 28 - min(self._scrolled, beyond)
        return [QRectF(left + index * (width + 14), frame.top() + 4, width, frame.height() - 8)
                for index in range(count)]

    def _scroll_to_chosen(self) -> None:
        """Bring the chosen stage into sight."""
        columns, frame = self.columns(), self._axes().frame
        if not columns or not self._selection.stage_id:
            return
        column = columns[self._selection.strip.index_of(self._selection.stage_id)]
        if column.left() < frame.left() + 8:
            self._scrolled = max(self._scrolled - (frame.left() + 28 - column.left()), 0.0)
        elif column.right() > frame.right() - _PLUS:
            self._scrolled += column.right() - (frame.right() - _PLUS - 8)

    def plus(self) -> QRectF:
        frame, columns = self._axes().frame, self.columns()
        left = columns[-1].right() + 16 if columns else frame.left() + 28
        left = min(left, frame.right() - 34)
        return QRectF(left, frame.center().y() - 15, 30, 30)

    def _foot(self, column: QRectF) -> QRectF:
        return QRectF(column.left(), column.bottom() - _FOOT, column.width(), _FOOT)

    def _cross(self, column: QRectF) -> QRectF:
        return QRectF(column.right() - 20, column.top(), 20, _HEAD)

    # -- drawing ------------------------------------------------------------------------

    def draw_again(self) -> None:
        """Show what there is now; levels alone are drawn over what stays."""
        self._still = None
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still = None

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            self._still = still(self, theme.PANEL, self._paint_stages)
        painter.drawPixmap(0, 0, self._still)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        axes, columns = self._axes(), self.columns()
        self._paint_path(painter, axes, columns)
        if self._drop_at is not None and columns:
            x = columns[self._drop_at].left() - 7 if self._drop_at < len(columns) else columns[-1].right() + 7
            painter.setPen(QPen(theme.AFTER, 3.0))
            painter.drawLine(QPointF(x, axes.frame.top() + 4), QPointF(x, axes.frame.bottom() - 4))
        if self.hasFocus():
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

    def _paint_stages(self, painter: QPainter) -> None:
        """All but the levels."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        strip, axes = self._selection.strip, self._axes()
        painter.setFont(theme.font(10.5, bold=True))
        painter.setPen(theme.TEXT)
        painter.drawText(QRectF(12, 4, 400, 20), int(Qt.AlignmentFlag.AlignVCenter), strip.name)
        title = painter.fontMetrics().horizontalAdvance(strip.name)
        painter.setFont(theme.font(8))
        painter.setPen(theme.DIM)
        reference = self._sessions.session.reference_dbfs
        painter.drawText(QRectF(24 + title, 4, 500, 20), int(Qt.AlignmentFlag.AlignVCenter),
                         with_minus(f"level along the path, dB against 0 VU ({reference:g} dBFS)"))
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, 6.0)
        painter.save()
        painter.setClipRect(axes.frame.adjusted(1, 0, 12, 0))
        for stage, column in zip(strip.chain, self.columns(), strict=True):
            self._paint_stage(painter, axes, stage, column)
        painter.restore()
        plus = self.plus()
        painter.setPen(QPen(theme.DIM, 1.2))
        painter.setBrush(theme.RAISED)
        painter.drawEllipse(plus)
        painter.drawLine(plus.center() - QPointF(7, 0), plus.center() + QPointF(7, 0))
        painter.drawLine(plus.center() - QPointF(0, 7), plus.center() + QPointF(0, 7))
        if not strip.chain:
            painter.setFont(theme.font(9))
            painter.setPen(theme.TEXT)
            painter.drawText(QRectF(plus.right() + 12, plus.top() - 8, 460, 46), int(Qt.AlignmentFlag.AlignVCenter),
                             "Nothing colours this strip yet.\nAdd a stage or start from a preset.")

    def _paint_stage(self, painter: QPainter, axes: Axes, stage: StageSettings, column: QRectF) -> None:
        kind = stage.declaration
        chosen = stage.id == self._selection.stage_id
        if stage.id == self.soloed:
            painter.fillRect(column.adjusted(0, -4, 0, 4), theme.AFTER_FILL)
        painter.setPen(QPen(theme.AFTER if chosen else theme.EDGE, 1.5 if chosen else 1.0))
        painter.setBrush(theme.RAISED if stage.on else theme.PANEL)
        painter.drawRoundedRect(column, 3, 3)
        inner = column.adjusted(1, _HEAD, -1, -_FOOT)
        low, high = kind.comfort_db
        if kind.drive is not None and stage.on:
            zone = QRectF(QPointF(inner.left(), max(axes.y(high), inner.top())),
                          QPointF(inner.right(), min(axes.y(low), inner.bottom())))
            painter.fillRect(zone, theme.COMFORT)
        painter.setFont(theme.font(8.5, bold=True))
        painter.setPen(theme.TEXT if stage.on else theme.DIM)
        draw_glyph(painter, QRectF(column.left() + 6, column.top() + 4, 13, 13), kind.glyph,
                   theme.AFTER if stage.on else theme.FAINT)
        head = QRectF(column.left() + 24, column.top(), column.width() - 45, _HEAD)
        label = painter.fontMetrics().elidedText(kind.label, Qt.TextElideMode.ElideRight, int(head.width()))
        painter.drawText(head, int(Qt.AlignmentFlag.AlignVCenter), label)
        cross = self._cross(column).center()
        painter.setPen(QPen(theme.DIM, 1.3))
        for a, b in ((QPointF(-3.5, -3.5), QPointF(3.5, 3.5)), (QPointF(-3.5, 3.5), QPointF(3.5, -3.5))):
            painter.drawLine(cross + a, cross + b)
        foot = self._foot(column)
        painter.setFont(theme.font(8))
        self._paint_switch(painter, QRectF(foot.left() + 6, foot.center().y() - 7, 26, 13), stage.on)
        painter.setPen(theme.TEXT if stage.on else theme.DIM)
        acting = acting_words(self._sessions.session, self._selection.strip, stage.id)
        text = acting or ("on" if stage.on else "bypassed")
        if kind.drive is not None and stage.on and not acting:
            drive = kind.parameter(kind.drive)
            text = f"{drive.label} {drive.text(stage.params[kind.drive])}"
        where = foot.adjusted(38, 0, -4, 0)
        self._paint_added(painter, stage, foot)
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(where.width()))
        painter.drawText(where, int(Qt.AlignmentFlag.AlignVCenter), text)

    @staticmethod
    def _paint_switch(painter: QPainter, box: QRectF, on: bool) -> None:
        """A switch whose knob lies at the right while the stage works."""
        painter.setPen(QPen(theme.AFTER if on else theme.DIM, 1.2))
        painter.setBrush(theme.AFTER_FILL if on else theme.PANEL)
        painter.drawRoundedRect(box, 6.5, 6.5)
        painter.setBrush(theme.AFTER if on else theme.DIM)
        painter.setPen(Qt.PenStyle.NoPen)
        knob = 9.0
        painter.drawEllipse(QRectF(box.right() - knob - 2 if on else box.left() + 2, box.center().y() - knob / 2,
                                   knob, knob))

    def _paint_added(self, painter: QPainter, stage: StageSettings, foot: QRectF) -> None:
        """What the stage adds, on the ramp with its figure; what was measured before a change is dimmed until then."""
        fresh = self._dissector.of(self._selection.strip_id)
        result = fresh or self._dissector.last_of(self._selection.strip_id)
        added_db = None if result is None else result.stages.get(stage.id)
        if added_db is None or not stage.on:
            return
        painter.save()
        painter.setOpacity(1.0 if fresh is not None else 0.5)
        painter.fillRect(QRectF(foot.left() + 2, foot.bottom() - 3, foot.width() - 4, 2.5),
                         theme.added_colour(added_db))
        painter.setPen(theme.added_text_colour(added_db))
        words = with_minus(f"added {added_db:.0f} dB") if added_db > -99.5 else "nothing added"
        painter.drawText(QRectF(foot.left() + 8, foot.top() - 17, foot.width() - 12, 16),
                         int(Qt.AlignmentFlag.AlignVCenter), words)
        painter.restore()

    def _paint_path(self, painter: QPainter, axes: Axes, columns: list[QRectF]) -> None:
        """The level line: flat between stages, a step within each, with its figures."""
        reference = self._sessions.session.reference_dbfs
        if len(self._vu) != len(columns) + 1:
            return
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        for index, column in enumerate(columns):
            figures = [against_vu(level, reference) for level in self._vu[index:index + 2]]
            words = [with_minus(f"{figure:+.1f}") if figure > _LOW - 30.0 else "\u2013" for figure in figures]
            painter.drawText(column.adjusted(7, _HEAD - 2, -7, 0), int(Qt.AlignmentFlag.AlignLeft), f"in {words[0]}")
            painter.drawText(column.adjusted(7, _HEAD - 2, -7, 0), int(Qt.AlignmentFlag.AlignRight), f"out {words[1]}")
        painter.save()
        painter.setClipRect(axes.frame)
        heights = [axes.y(against_vu(level, reference)) for level in self._vu]
        peaks = [axes.y(against_vu(level, reference)) for level in self._peak]
        edges = [axes.frame.left(), *(column.center().x() for column in columns),
                 columns[-1].right() + 12 if columns else axes.frame.left() + 24]
        for index, (height, peak) in enumerate(zip(heights, peaks, strict=True)):
            left, right = edges[index], edges[index + 1]
            colour = theme.BEFORE if index == 0 else theme.AFTER
            painter.setPen(QPen(colour, 2.4))
            painter.drawLine(QPointF(left, height), QPointF(right, height))
            painter.setPen(QPen(colour, 1.0, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(left, peak), QPointF(right, peak))
            if index + 1 < len(heights):
                painter.setPen(QPen(theme.AFTER, 2.4))
                painter.drawLine(QPointF(right, height), QPointF(right, heights[index + 1]))
        painter.restore()

    # -- hands --------------------------------------------------------------------------

    def _stage_at(self, point: QPointF) -> int | None:
        for index, column in enumerate(self.columns()):
            if column.contains(point):
                return index
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        index = self._stage_at(point)
        if index is None:
            if self.plus().contains(point):
                self.open_chooser()
            return
        stage, column = self._selection.strip.chain[index], self.columns()[index]
        self._selection.select(self._selection.strip_id, stage.id)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self._cross(column).contains(point):
            self.remove_chosen()
        elif self._foot(column).contains(point):
            self.switch_chosen()
        else:
            self._press, self._mode, self._driven = point, "", 0.0

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            over = self._stage_at(event.position())
            self.setCursor(Qt.CursorShape.SizeVerCursor if over is not None else Qt.CursorShape.ArrowCursor)
            return
        moved = event.position() - self._press
        if not self._mode and max(abs(moved.x()), abs(moved.y())) > 5:
            self._mode = "drive" if abs(moved.y()) >= abs(moved.x()) else "move"
        if self._mode == "drive":
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            by = -moved.y() * _DB_PER_PIXEL * (0.1 if fine else 1.0)
            self._press = event.position()
            self.drive(by)
        elif self._mode == "move" and not self.rect().contains(event.position().toPoint()):
            stage = self._selection.strip.stage(self._selection.stage_id)
            self._press, self._mode, self._drop_at = None, "", None
            self.update()
            copying.drag(self, self._messages, self._selection.strip_id, [stage])
        elif self._mode == "move":
            x = event.position().x()
            self._drop_at = sum(column.center().x() < x for column in self.columns())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._mode == "drive":
            self._commit_drive()
        elif self._mode == "move" and self._drop_at is not None:
            index = self._selection.strip.index_of(self._selection.stage_id)
            self._move_to(self._drop_at - (1 if self._drop_at > index else 0))
        self._press, self._mode, self._drop_at = None, "", None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._stage_at(event.position()) is not None and event.button() == Qt.MouseButton.LeftButton:
            self._reset_drive()

    def wheelEvent(self, event: QWheelEvent) -> None:
        index = self._stage_at(event.position())
        if index is not None:
            self._selection.select(self._selection.strip_id, self._selection.strip.chain[index].id)
            self.drive(event.angleDelta().y() / 120.0 * 0.5)
            self._commit_drive()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if dropping.fits_path(event.mimeData()) or copying.can_drop(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        if dropping.fits_path(event.mimeData()):
            index = self._stage_at(event.position())
            stage_id = "" if index is None else self._selection.strip.chain[index].id
            dropping.on_path(self._sessions, self._selection, self._messages, dropped_files(event.mimeData())[0],
                             stage_id)
        else:
            copying.drop(self._sessions, self._selection, self._messages, self._selection.strip_id, event.mimeData(),
                         event.modifiers())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self._selection.stage_id:
            menu = QMenu(self)
            menu.addAction("Bypass or switch on", self.switch_chosen)
            menu.addAction("Remove", self.remove_chosen)
            menu.addAction("All to defaults", self._defaults)
            menu.addAction("Match the stage's level", self.match_chosen)
            menu.addAction("Level into the zone", self.level_chosen)
            menu.addAction("Level every stage into its zone", self.level_all)
            menu.addAction("Hear all again" if self.soloed == self._selection.stage_id else "Solo", self.solo_chosen)
            stage = self._selection.strip.stage(self._selection.stage_id)
            add_acting_menu(menu, self._sessions, self._selection.strip_id, stage.id, stage.declaration.label,
                            lambda: self._playback.state.position / self._sessions.session.rate)
            menu.popup(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        chain = self._selection.strip.chain
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        key = event.key()
        if key == Qt.Key.Key_Insert or event.text() == "+":
            self.open_chooser()
        elif not chain:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            index = self._selection.strip.index_of(self._selection.stage_id) + (1 if key == Qt.Key.Key_Right else -1)
            index = min(max(index, 0), len(chain) - 1)
            if control:
                self._move_to(index)
            else:
                self._selection.select(self._selection.strip_id, chain[index].id)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.drive((0.1 if fine else 0.5) * (1 if key == Qt.Key.Key_Up else -1))
            self._commit_drive()
        elif key == Qt.Key.Key_Delete:
            self.remove_chosen()
        elif key == Qt.Key.Key_X:
            self.switch_chosen()
        elif key == Qt.Key.Key_S and not event.modifiers():
            self.solo_chosen()
        elif key == Qt.Key.Key_Z and not event.modifiers():
            self.level_chosen()
        elif key == Qt.Key.Key_Backspace:
            self._reset_drive()
        else:
            super().keyPressEvent(event)

    # -- edits --------------------------------------------------------------------------

    def drive(self, by_db: float) -> None:
        strip_id, stage_id = self._selection.strip_id, self._selection.stage_id
        driven = drive_stage(self._sessions.session, strip_id, stage_id, by_db).strip(strip_id).stage(stage_id)
        kind = driven.declaration
        values = {name: driven.params[name] for name in (kind.drive, kind.makeup) if name is not None}

        def edit(session: Session) -> Session:
            for name, value in values.items():
                session = set_parameter(session, strip_id, stage_id, name, value)
            return session

        self._gesture.show(f"Drive {kind.label}", stage_id, edit)

    def _commit_drive(self) -> None:
        self.driven.emit()
        self._gesture.keep()

    def _reset_drive(self) -> None:
        stage = self._selection.strip.stage(self._selection.stage_id)
        kind = stage.declaration
        if kind.drive is not None:
            default = as_pair(kind.parameter(kind.drive).default_value)[0]
            self.drive((default - as_pair(stage.params[kind.drive])[0]) / kind.drive_units)
            self._commit_drive()

    def _defaults(self) -> None:
        self._sessions.document.commit("Stage to defaults", lambda session: to_defaults(
            session, self._selection.strip_id, self._selection.stage_id))

    def switch_chosen(self) -> None:
        """Bypass the chosen stage, or switch it on."""
        if not self._selection.stage_id:
            return
        stage = self._selection.strip.stage(self._selection.stage_id)
        verb = "Bypass" if stage.on else "Switch on"
        self._sessions.document.commit(f"{verb} {stage.declaration.label}", lambda session: edit_stage(
            session, self._selection.strip_id, stage.id, lambda old: replace_stage(old, on=not old.on)))

    def solo_chosen(self) -> None:
        """Let the chosen stage be heard without the others of its path, or all of them again; nothing is changed."""
        stage_id, trial = self._selection.stage_id, self._solo
        if trial is not None:
            self._solo = None
            trial[1].drop()
            self.draw_again()
        if not stage_id or (trial is not None and trial[0] == stage_id):
            return
        strip_id = self._selection.strip_id
        others = [stage.id for stage in self._selection.strip.chain if stage.id != stage_id]
        solo = self._sessions.document.trial("Solo", Settle.DROP, alone=True)

        def edit(session: Session) -> Session:
            for other in others:
                session = edit_stage(session, strip_id, other, lambda old: replace_stage(old, on=False))
            return edit_stage(session, strip_id, stage_id, lambda old: replace_stage(old, on=True))

        solo.show(edit)
        self._solo = stage_id, solo
        self._messages.say(f"{self._selection.strip.stage(stage_id).declaration.label} alone; S again for all")
        self.draw_again()

    @property
    def soloed(self) -> str:
        """Id of the stage that is heard alone, "" for none."""
        return self._solo[0] if self._solo is not None and self._solo[1].open else ""

    def level_chosen(self) -> None:
        """Set the level into the chosen stage so that the loop lies in its zone."""
        if self._selection.stage_id:
            self._matches.level_into_zone(self._selection.strip_id, (self._selection.stage_id,))

    def level_all(self) -> None:
        """Set the level into every stage of the path so that the loop lies in its zone."""
        self._matches.level_into_zone(self._selection.strip_id, tuple(
            stage.id for stage in self._selection.strip.chain))

    def match_chosen(self) -> None:
        """Make the chosen stage as loud as what enters it."""
        if self._selection.stage_id:
            self._matches.match_stage(self._selection.strip_id, self._selection.stage_id)

    def remove_chosen(self) -> None:
        """Take the chosen stage out of the path."""
        if self._selection.stage_id:
            label = self._selection.strip.stage(self._selection.stage_id).declaration.label
            self._sessions.document.commit(f"Remove {label}", lambda session: remove_stage(
                session, self._selection.strip_id, self._selection.stage_id))

    def _move_to(self, index: int) -> None:
        label = self._selection.strip.stage(self._selection.stage_id).declaration.label
        self._sessions.document.commit(f"Move {label}", lambda session: move_stage(
            session, self._selection.strip_id, self._selection.stage_id, index))

    def open_chooser(self) -> None:
        """Offer the stages, and chains for a purpose."""
        self._tools.open(StageChooser)

    def open_presets(self, search: str = "") -> None:
        """Presets to hear on this strip; `search` names what to show of them."""
        browser = self._tools.open(PresetBrowser)
        if search:
            browser.look_for(search)

    def add(self, kind: str) -> None:
        """A new stage behind the chosen one, and at the end of every other chosen strip."""
        stage = new_stage(kind)
        copying.add_to_chosen(self._sessions, self._selection, self._messages, [stage],
                              f"Add {stage.declaration.label}")
