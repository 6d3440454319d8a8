"""One strip in the desk: name, glyphs of its stages, level, what it adds, mute, solo, link, and how it is played."""

from __future__ import annotations

import functools

from PyQt6.QtCore import QEvent, QMimeData, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QContextMenuEvent,
    QDrag,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractButton, QApplication, QColorDialog, QInputDialog, QMenu, QSizePolicy

from yellow_ember.app.panels import copying, dropping, strip_commands
from yellow_ember.app.panels.input_panel import add_input_menu
from yellow_ember.app.panels.lane_menu import add_acting_menu
from yellow_ember.app.state.background import BackgroundPrints, PrintState
from yellow_ember.app.state.matcher import Matcher, MatchState
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.recording import Recording
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.folding import arrow
from yellow_ember.app.widgets.glyphs import draw_glyph
from yellow_ember.app.widgets.level import draw_level
from yellow_ember.app.widgets.painting import painted, still
from yellow_ember.app.widgets.text import escaped, menu_text
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.edits import add_bus, edit_strip, remove_send, remove_strip, route, set_send
from yellow_ember.session.edits.lane_edits import begin_lane
from yellow_ember.session.edits.link_edits import group_of, join_link, leave_link, link_strips
from yellow_ember.session.edits.strip_edits import move_strip
from yellow_ember.session.values.drawn import find_lane
from yellow_ember.session.values.model import Send, Strip, StripKind
from yellow_ember.session.values.strip_values import BYPASS, MUTE

ROW, COMPACT_ROW = 40, 28
STRIP_MIME = "application/x-yellow-ember-strip"
"""What a dragged row carries: the strip's id."""
_INDENT = 12
_BUTTON = 18
_MARK, _FIGURE = 12, 20
_TINT = 4
_SILENT = 1e-5
_GLYPHS = 4
"""So many stages are drawn."""


def added_figure(added_db: float) -> str:
    """What was added in as few letters as a row has room for."""
    return with_minus(f"{added_db:.0f}") if added_db > -99.5 else "\u2013"


KEYS = (("Up, Down", "another strip"), ("Shift+Up, Shift+Down", "choose several"),
        ("Ctrl+click, Shift+click", "choose several"), ("Left, Right", "fold or open a bus"),
        ("M, S, X", "mute, solo, bypass"), ("Drag a row", "another place, another bus"),
        ("Drag a stage's mark", "move it; Ctrl copies it, Ctrl+Shift its settings"))
"""What it answers to, for the sheet of keys."""


class StripRow(QAbstractButton):
    """A row; what it shows is taken from the session at every painting.

    compact : it is as low as can be read
    folded : whether what feeds the bus is folded away; None for a strip that nothing feeds
    """

    folding = pyqtSignal(bool)
    """What feeds the bus is to be folded away, or shown."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 measurer: Measurer, matcher: Matcher, prints: BackgroundPrints, recording: Recording,
                 strip: Strip, depth: int, *, compact: bool = False, folded: bool | None = None) -> None:
        super().__init__()
        self._compact, self._folded = compact, folded
        self._sessions, self._selection, self._playback, self._messages = sessions, selection, playback, messages
        self._measurer, self._matcher, self._prints, self._recording = measurer, matcher, prints, recording
        self.strip_id = strip.id
        self._depth = depth
        self._still: QPixmap | None = None
        self._vu = 0.0
        self._peak = 0.0
        self._clipped = False
        self._shown: tuple[object, ...] = ()
        self._match = MatchState.MATCHED
        self._press: QPointF | None = None
        self._drop_over = False
        self.setFixedHeight(COMPACT_ROW if compact else ROW)
        self.setAcceptDrops(True)
        self.setCheckable(True)
        self.toggled.connect(self._on_toggled)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.refresh()

    @property
    def _strip(self) -> Strip:
        return self._sessions.session.strip(self.strip_id)

    @property
    def _link(self) -> str:
        """The letter of the group that the strip, or one of its stages, is in; "" for none."""
        session, strip = self._sessions.session, self._strip
        groups = [group_of(session, member) for member in (strip.id, *(stage.id for stage in strip.chain))]
        return next((group.name for group in groups if group is not None), "")

    def refresh(self) -> None:
        """Show the strip as it is now."""
        strip = self._strip
        state = self._prints.state(self.strip_id)
        share = round(self._prints.share, 1) if state is PrintState.PRINTING else 0.0
        self._match = self._matcher.state(strip)
        trouble = self._matcher.trouble(self.strip_id) if self._match is MatchState.FAILED else ""
        measured = self._measurer.latest(self.strip_id)
        shown = (self._match, trouble, None if measured is None else measured.comparison.added_db, strip.name,
                 strip.mute, strip.solo, strip.bypass, strip.tint, strip.live, strip.own_ports, self._link, state,
                 self.strip_id in self._recording.armed,
                 share, tuple((stage.kind, stage.on) for stage in strip.chain), strip.sends,
                 self._selection.strip_id == self.strip_id, self.strip_id in self._selection.chosen)
        if shown == self._shown:
            return
        self._shown = shown
        sends = [f"sends to {self._sessions.session.strip(send.to).name}" for send in strip.sends]
        states = [word for word, on in (
            (f"listens to {strip.live.words if strip.live is not None else ''}", strip.listens),
            ("armed for recording", self.strip_id in self._recording.armed),
            ("leaves by ports of its own", strip.own_ports),
            ("muted", strip.mute), ("solo", strip.solo), ("bypassed", strip.bypass),
            (f"linked, {self._link}", bool(self._link)),
            (f"{self._match.value}{trouble and f': {trouble}'}", self._match is not MatchState.MATCHED),
            (state.value, state is not PrintState.LIVE)) if on]
        stages = ", ".join(stage.declaration.label for stage in strip.chain) or "no stages"
        self.setChecked(self.strip_id in self._selection.chosen)
        self.setAccessibleName(f"{strip.kind.value} {strip.name}")
        self.setAccessibleDescription("; ".join((*states, *sends, stages)))
        more = "".join(f"<br>{escaped(words)}" for words in (*states, *sends))
        self.setToolTip(f"<b>{escaped(strip.name)}</b> ({strip.kind.value}): {stages}{more}<br>"
                        "M mutes, S plays it alone. Ctrl+click edits it together with others.")
        self.draw_again()

    def show_levels(self) -> bool:
        """Take the newest levels; False where none is left."""
        engine = self._playback.engine
        reading = engine.reading(self.strip_id) if engine is not None else None
        vu, peak = (float(reading.vu.max()), float(reading.peak.max())) if reading is not None else (0.0, 0.0)
        clipped = reading is not None and reading.clipped
        if clipped != self._clipped:
            self._clipped = clipped
            self.draw_again()
        if vu != self._vu or peak != self._peak:
            self._vu, self._peak = vu, max(peak, self._peak * 0.93)
            self.update(self._level_box().adjusted(-1, -1, 1, 1).toAlignedRect())
        return vu > _SILENT or self._peak > _SILENT

    # -- drawing ------------------------------------------------------------------------

    def button_box(self, index: int) -> QRectF:
        return QRectF(self.width() - 8 - (2 - index) * (_BUTTON + 3), 2 if self._compact else 4, _BUTTON, 15)

    def _level_box(self) -> QRectF:
        left = 14 + self._depth * _INDENT
        if self._compact:
            return QRectF(left, self.height() - 8, self.width() - left - 8 - _MARK - 4, 3)
        return QRectF(left, ROW - 13, self.width() - left - 8 - _MARK - _FIGURE - 6, 6)

    def _mark_box(self) -> QRectF:
        return QRectF(self.width() - 8 - _MARK, self.height() - (10.5 if self._compact else 14.5), _MARK, 9)

    def figure_box(self) -> QRectF:
        """Where what is added stands in figures: a column beside the buttons of a low row, else beside the level."""
        if self._compact:
            return QRectF(self.button_box(0).left() - _FIGURE - 6, 3, _FIGURE, 14)
        box = self._level_box()
        return QRectF(box.right() + 2, box.top() - 5, _FIGURE, 14)

    def fold_box(self) -> QRectF:
        """Where the triangle of a bus is."""
        return QRectF(self._depth * _INDENT + 2, 2, 11, 18)

    def glyph_box(self) -> QRectF:
        width = 17.0 * len(self._strip.chain[:_GLYPHS])
        right = self.figure_box().left() if self._compact else self.button_box(0).left()
        return QRectF(right - width - 3, 2.5 if self._compact else 4.5, width, 14)

    def draw_again(self) -> None:
        """Show what there is now; levels alone are drawn over what stays."""
        self._still = None
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still = None

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.draw_again()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.draw_again()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        if self._still is None:
            self._still = still(self, theme.PANEL, self._paint_content)
        painter.drawPixmap(0, 0, self._still)
        draw_level(painter, self._level_box(), self._vu, self._peak, self._sessions.session.reference_dbfs)

    def _paint_content(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        strip = self._strip
        if self.strip_id in self._selection.chosen:
            painter.fillRect(self.rect(), theme.RAISED)
            width = 3.0 if self._selection.strip_id == self.strip_id else 1.5
            painter.fillRect(QRectF(0, 0, width, self.height()), theme.AFTER)
        if self._folded is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.DIM)
            centre = self.fold_box().center()
            painter.drawPolygon(arrow(centre.x(), centre.y(), down=not self._folded))
        if self.hasFocus() or self._drop_over:
            painter.setPen(QPen(theme.AFTER, 1.0, Qt.PenStyle.SolidLine if self._drop_over else Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        if strip.tint:
            painter.fillRect(QRectF(4, 2, _TINT, self.height() - 4), QColor(strip.tint))
        left = 14 + self._depth * _INDENT
        if self._link:
            self._paint_link(painter, QRectF(left, 5, 15, 13))
            left += 19
        if strip.listens or self.strip_id in self._recording.armed:
            left = self._paint_socket(painter, left)
        painter.setFont(theme.font(9.5, bold=strip.kind is not StripKind.TRACK))
        painter.setPen(theme.DIM if strip.mute else theme.TEXT)
        room = self.glyph_box().left() - left - 4
        name = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(QRectF(left, 0 if self._compact else 2, room, 18 if self._compact else 20),
                         int(Qt.AlignmentFlag.AlignVCenter), name)
        self._paint_glyphs(painter, strip)
        for index, (letter, on, colour) in enumerate((("M", strip.mute, theme.BEFORE), ("S", strip.solo, theme.AFTER))):
            box = self.button_box(index)
            painter.setPen(QPen(colour if on else theme.EDGE, 1.0))
            painter.setBrush(colour if on else theme.PANEL)
            painter.drawRoundedRect(box, 2, 2)
            painter.setPen(theme.GROUND if on else theme.DIM)
            painter.setFont(theme.font(8, bold=True))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), letter)
        result = self._measurer.latest(self.strip_id)
        box = self._level_box()
        figure_box = self.figure_box()
        figure_at = int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if result is not None and strip.chain:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.added_colour(result.comparison.added_db))
            painter.drawRect(QRectF(box.left(), box.bottom() + 2, box.width(), 2.5))
        if self._match is not MatchState.MATCHED:
            # What is not matched yet is not measured either: the mark stands in the figure's place.
            painter.setFont(theme.font(11, bold=True))
            painter.setPen(theme.AFTER if self._match is MatchState.WAITING else theme.TEXT)
            painter.drawText(figure_box, figure_at, "\u2260")
        elif result is not None and strip.chain:
            painter.setFont(theme.font(7.5))
            painter.setPen(theme.added_text_colour(result.comparison.added_db))
            painter.drawText(figure_box, figure_at, added_figure(result.comparison.added_db))
        self._paint_mark(painter)

    def _paint_socket(self, painter: QPainter, left: int) -> int:
        """An arrow into a ring, for a strip that listens, filled where it is armed; where it ends."""
        middle = 9.0 if self._compact else 12.0
        painter.setPen(QPen(theme.AFTER if self._clipped else theme.BEFORE, 1.4))
        painter.setBrush(theme.RECORD if self.strip_id in self._recording.armed else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(left + 10, middle), 4.0, 4.0)
        painter.drawLine(QPointF(left, middle), QPointF(left + 9, middle))
        painter.drawLine(QPointF(left + 9, middle), QPointF(left + 6, middle - 2.5))
        painter.drawLine(QPointF(left + 9, middle), QPointF(left + 6, middle + 2.5))
        return left + 18

    def _paint_link(self, painter: QPainter, box: QRectF) -> None:
        painter.setPen(QPen(theme.BEFORE, 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 3, 3)
        painter.setFont(theme.font(7.5, bold=True))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), self._link)

    def _paint_mark(self, painter: QPainter) -> None:
        """A sheet: empty while it waits, filled from below while it is printed, full when the print plays."""
        state = self._prints.state(self.strip_id)
        if state is PrintState.LIVE:
            return
        box = self._mark_box().adjusted(2.5, 0.5, -1.5, -0.5)
        painter.setPen(QPen(theme.FAINT if state is PrintState.WAITING else theme.BEFORE, 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        share = {PrintState.PRINTED: 1.0, PrintState.PRINTING: self._prints.share}.get(state, 0.0)
        painter.fillRect(QRectF(QPointF(box.left(), box.bottom() - share * box.height()), box.bottomRight()),
                         theme.BEFORE)

    def _paint_glyphs(self, painter: QPainter, strip: Strip) -> None:
        whole = self.glyph_box()
        for index, stage in enumerate(strip.chain[:_GLYPHS]):
            works = stage.on and not strip.bypass
            draw_glyph(painter, QRectF(whole.left() + 17 * index, whole.top(), 13, 13), stage.declaration.glyph,
                       theme.AFTER if works else theme.FAINT, 1.2)
        if strip.bypass and strip.chain:
            painter.setPen(QPen(theme.BEFORE, 1.4))
            across = whole.center().y()
            painter.drawLine(QPointF(whole.left() - 2, across), QPointF(whole.right() - 1, across))

    # -- hands --------------------------------------------------------------------------

    def nextCheckState(self) -> None:
        """Space chooses it."""
        self._selection.choose_only(self.strip_id)

    def _on_toggled(self, down: bool) -> None:
        """A screen reader pressed it, where it is not as the selection has it."""
        if down != (self.strip_id in self._selection.chosen):
            self._selection.choose_only(self.strip_id)
            self.setChecked(True)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point, left = QPointF(event.position()), event.button() == Qt.MouseButton.LeftButton
        if left and self._folded is not None and self.fold_box().contains(point):
            self.folding.emit(not self._folded)
        elif left and self.button_box(0).contains(point):
            self.switch("mute")
        elif left and self.button_box(1).contains(point):
            self.switch("solo")
        elif left and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._selection.choose_also(self.strip_id)
        elif left and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._selection.choose_up_to(self.strip_id)
        elif left:
            self._press = point
            self._selection.choose_only(self.strip_id)
        elif self.strip_id not in self._selection.chosen:
            self._selection.choose_only(self.strip_id)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Carry the path to another strip, from a glyph on; else the strip to another place."""
        if self._press is None or (event.position() - self._press).manhattanLength() <= (
                QApplication.startDragDistance()):
            return
        from_glyphs = self.glyph_box().contains(self._press)
        self._press = None
        if from_glyphs:
            copying.drag(self, self._messages, self.strip_id, self._strip.chain)
        elif self._strip.kind is not StripKind.MASTER:
            mime = QMimeData()
            mime.setData(STRIP_MIME, self.strip_id.encode())
            carrying = QDrag(self)
            carrying.setMimeData(mime)
            carrying.exec(Qt.DropAction.MoveAction)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._press = None

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        mime = event.mimeData()
        carries_strip = mime is not None and mime.hasFormat(STRIP_MIME)
        if carries_strip or copying.can_drop(mime) or dropping.audio_of(mime):
            event.acceptProposedAction()
            self._drop_over = True
            self.draw_again()

    def dragLeaveEvent(self, event: QDragLeaveEvent) -> None:
        self._drop_over = False
        self.draw_again()

    def dropEvent(self, event: QDropEvent) -> None:
        self._drop_over = False
        self.draw_again()
        files, mime = dropping.audio_of(event.mimeData()), event.mimeData()
        if mime is not None and mime.hasFormat(STRIP_MIME):
            self._take_strip(bytes(mime.data(STRIP_MIME).data()).decode(), event.position().y() / self.height())
        elif files:
            dropping.on_strip(self._sessions, self.strip_id, files)
        else:
            copying.drop(self._sessions, self._selection, self._messages, self.strip_id, event.mimeData(),
                         event.modifiers())
        event.acceptProposedAction()

    def _take_strip(self, strip_id: str, share: float) -> None:
        """Another strip is dropped here: on the upper part it goes before this one, on the lower part behind it.

        share : how far down the row; in the middle of a bus the strip feeds that bus
        """
        here = {strip.id: strip.name for strip in self._sessions.session.strips}
        if strip_id not in here or strip_id == self.strip_id:
            return
        try:
            if self._strip.kind is not StripKind.TRACK and (0.3 < share < 0.7 or self._strip.kind is StripKind.MASTER):
                self._sessions.document.commit(f"Route {here[strip_id]}",
                                               lambda session: route(session, strip_id, self.strip_id))
            else:
                self._sessions.document.commit(f"Move {here[strip_id]}", lambda session: move_strip(
                    session, strip_id, self.strip_id, after=share >= 0.5))
        except ValueError as reason:
            self._messages.warn(str(reason))

    def switch(self, which: str) -> None:
        """Switch mute, solo or bypass, of all strips that are chosen with this one."""
        state = not getattr(self._strip, which)
        label = f"{which.capitalize()} {self._strip.name}"
        self._sessions.document.commit(label, lambda session: edit_strip(
            session, self.strip_id, lambda strip: strip.with_(**{which: state})))

    def event(self, event: QEvent | None) -> bool:
        # Its own M goes before the window's.
        if (isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride
                and event.key() == Qt.Key.Key_M and not event.modifiers()):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        shift = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        match event.key():
            case Qt.Key.Key_M if not event.modifiers():
                self.switch("mute")
            case Qt.Key.Key_S if not event.modifiers():
                self.switch("solo")
            case Qt.Key.Key_X if not event.modifiers():
                self.switch("bypass")
            case Qt.Key.Key_Left | Qt.Key.Key_Right if self._folded is not None:
                self.folding.emit(event.key() == Qt.Key.Key_Left)
            case Qt.Key.Key_Up | Qt.Key.Key_Down:
                rows = [strip.id for strip, _ in self._sessions.session.depth_first()]
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                at = rows[min(max(rows.index(self.strip_id) + step, 0), len(rows) - 1)]
                if shift:
                    self._selection.choose_also_next(at)
                else:
                    self._selection.choose_only(at)
            case _:
                super().keyPressEvent(event)

    # -- menu ---------------------------------------------------------------------------

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu().popup(event.globalPos())

    def menu(self) -> QMenu:
        """What can be done with the strip."""
        strip = self._strip
        menu = QMenu(self)
        if self.strip_id not in self._selection.chosen:
            self._selection.choose_only(self.strip_id)
        menu.addAction("Rename", self.rename)
        self._add_tints(menu, strip)
        add_input_menu(menu, self._sessions, self._messages, strip)
        bypass = menu.addAction("Bypass the path", lambda: self.switch("bypass"))
        assert bypass is not None
        bypass.setCheckable(True)
        bypass.setChecked(strip.bypass)
        add_acting_menu(menu, self._sessions, strip.id, "", strip.name,
                        lambda: self._playback.state.position / self._sessions.session.rate)
        for parameter in (MUTE, BYPASS):
            if find_lane(strip, "", parameter.id) is None:
                menu.addAction(f"Draw {parameter.label.lower()} over time", lambda chosen=parameter.id: (
                    self._sessions.document.commit("Lane", lambda session: begin_lane(
                        session, strip.id, "", chosen))))
        if strip.kind is not StripKind.MASTER:
            self._add_ways(menu, strip)
        if self._folded is not None:
            menu.addAction("Choose all that feed it", self._choose_feeding)
        self._add_links(menu)
        menu.addSeparator()
        menu.addAction("Add bus", lambda: self._sessions.document.commit(
            "Add bus", lambda session: add_bus(session, "Bus")))
        menu.addAction("New bus for the chosen strips", lambda: strip_commands.new_bus(
            self._sessions, self._selection, self._messages))
        menu.addAction("Duplicate", lambda: strip_commands.duplicate(self._sessions, self._selection, self._messages))
        menu.addAction("Clear the path", lambda: strip_commands.clear_path(self._sessions, self._selection))
        menu.addAction("Reset", lambda: strip_commands.reset(self._sessions, self._selection))
        if strip.kind is not StripKind.MASTER:
            menu.addAction("Remove", self._remove)
        return menu

    def _add_tints(self, menu: QMenu, strip: Strip) -> None:
        submenu = menu.addMenu("Colour")
        assert submenu is not None
        for name, tint in (("None", ""), *theme.TINTS):
            action = submenu.addAction(name, lambda chosen=tint: strip_commands.tint(
                self._sessions, self._selection, chosen))
            assert action is not None
            action.setIcon(theme.swatch(tint))
            action.setCheckable(True)
            action.setChecked(tint == strip.tint)
        submenu.addAction("Another\u2026", self._choose_tint)

    def _choose_tint(self) -> None:
        chosen = QColorDialog.getColor(QColor(self._strip.tint or theme.TINTS[0][1]), self, "Colour",
                                       QColorDialog.ColorDialogOption.DontUseNativeDialog)
        if chosen.isValid():
            strip_commands.tint(self._sessions, self._selection, chosen.name())

    def _add_ways(self, menu: QMenu, strip: Strip) -> None:
        session = self._sessions.session
        feeds, sends = menu.addMenu("Feeds"), menu.addMenu("Sends to")
        assert feeds is not None
        assert sends is not None
        sent = {send.to for send in strip.sends}
        for bus in session.strips:
            if bus.kind is StripKind.TRACK or bus.id in session.upstream(strip.id):
                continue
            for submenu, on, slot in ((feeds, bus.id == strip.out, self._route),
                                      (sends, bus.id in sent, self._switch_send)):
                action = submenu.addAction(menu_text(bus.name), lambda chosen=bus.id, run=slot: run(chosen))
                assert action is not None
                action.setCheckable(True)
                action.setChecked(on)

    def _add_links(self, menu: QMenu) -> None:
        session, own = self._sessions.session, group_of(self._sessions.session, self.strip_id)
        menu.addSeparator()
        if len(self._selection.chosen) > 1:
            menu.addAction(f"Link these {len(self._selection.chosen)} strips", lambda: self._sessions.document.commit(
                "Link strips", lambda session: link_strips(session, self._selection.chosen)))
        for group in session.links:
            if not group.of_stages and group is not own:
                menu.addAction(menu_text(f"Join link {group.name}"),
                               lambda chosen=group: self._sessions.document.commit(
                    f"Join link {chosen.name}", lambda session: join_link(session, chosen.id, self.strip_id)))
        if own is not None:
            menu.addAction(menu_text(f"Leave link {own.name}"), lambda: self._sessions.document.commit(
                f"Leave link {own.name}", lambda session: leave_link(session, self.strip_id)))

    def _choose_feeding(self) -> None:
        """Choose the strips of a bus, to edit them at once."""
        feeding = self._sessions.session.feeding(self.strip_id)
        self._selection.choose_all([strip.id for strip in feeding])

    def rename(self) -> None:
        name, accepted = QInputDialog.getText(self, "Rename", "Name", text=self._strip.name)
        if accepted and name.strip():
            self._sessions.document.commit(f"Rename {self._strip.name}", lambda session: edit_strip(
                session, self.strip_id, lambda strip: strip.with_(name=name.strip())))

    def _route(self, out: str) -> None:
        """Feed a bus, with all strips that are edited at once; those that it is fed by stay where they are."""
        session, chosen = self._sessions.session, self._selection.chosen
        moved = [strip_id for strip_id in (chosen if self.strip_id in chosen else (self.strip_id,))
                 if session.strip(strip_id).kind is not StripKind.MASTER and out not in session.upstream(strip_id)]
        what = self._strip.name if len(moved) == 1 else f"{len(moved)} strips"
        self._sessions.document.commit(f"Route {what}", lambda session: functools.reduce(
            lambda routed, strip_id: route(routed, strip_id, out), moved, session))

    def _switch_send(self, to: str) -> None:
        session, strip = self._sessions.session, self._strip
        name = session.strip(to).name
        if any(send.to == to for send in strip.sends):
            self._sessions.document.commit(f"Remove send to {name}",
                                            lambda session: remove_send(session, strip.id, to))
        else:
            self._sessions.document.commit(f"Send to {name}", lambda session: set_send(
                session, strip.id, Send(to=to, level_db=-12.0)))

    def _remove(self) -> None:
        self._sessions.document.commit(f"Remove {self._strip.name}",
                                        lambda session: remove_strip(session, self.strip_id))
