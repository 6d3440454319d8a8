"""The variation sheet: one stage in many ways, each equally loud, seen and heard at once."""

from __future__ import annotations

import functools
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
)

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import TryingTool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.buttons import action_button
from yellow_ember.app.widgets.hearing_tile import HearingTile, arrow_step
from yellow_ember.app.widgets.layouts import clear, let_shrink
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.text import TextLabel, as_text, escaped
from yellow_ember.app.widgets.tone_words import tone_words
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.variations import Variation, VariationOrder, dealt, render_variations
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.edits import edit_stage, edit_strip, replace_stage
from yellow_ember.session.edits.variation_plan import Plan, along, at_random, first_choice, variable
from yellow_ember.session.values.model import Session

_ACROSS = 6
_NOTHING = "nothing more"
_ORDERS = ("as they were made", "least added first", "most added first", "darkest first", "brightest first")
_REACH_DB = 12.0


class Tile(HearingTile):
    """One variation: its wave in the colour of what it adds, its change of tone, its figures."""

    def __init__(self, label: str) -> None:
        super().__init__(label)
        self.label = label
        self.variation: Variation | None = None
        self._zoom = 1.0
        self.setMinimumSize(80, 60)
        self.setToolTip(as_text(label))

    def sizeHint(self) -> QSize:
        return QSize(150, 100)

    def show_variation(self, variation: Variation) -> None:
        self.variation = variation
        words = with_minus(f"added {variation.added_db:.0f} dB, {tone_words(variation.brightness)}")
        self.setAccessibleDescription(words)
        self.setToolTip(f"<b>{escaped(self.label)}</b><br>{escaped(words)}<br>"
                        f"matched by {variation.offset_db:+.1f} dB")
        self.update()

    def show_zoom(self, zoom: float) -> None:
        """By how much the wave is drawn larger, the same for all."""
        if zoom != self._zoom:
            self._zoom = zoom
            self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        box = self.paint_ground(painter)
        painter.setPen(theme.TEXT)
        text = painter.fontMetrics().elidedText(self.label, Qt.TextElideMode.ElideRight, int(box.width() - 10))
        painter.drawText(box.adjusted(5, 2, -5, 0), int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop), text)
        result = self.variation
        if result is None:
            painter.setPen(theme.DIM)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), "\u2026")
            return
        wave = box.adjusted(5, 18, -5, -box.height() * 0.42)
        self._paint_wave(painter, wave, result)
        tone = QRectF(wave.left(), wave.bottom() + 3, wave.width(), box.bottom() - wave.bottom() - 20)
        self._paint_tone(painter, tone, result)
        painter.setFont(theme.font(7.5))
        painter.setPen(theme.DIM)
        painter.drawText(box.adjusted(5, 0, -5, -3), int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom),
                         with_minus(f"{result.added_db:.0f} dB, {tone_words(result.brightness)}"))

    def _paint_wave(self, painter: QPainter, box: QRectF, variation: Variation) -> None:
        xs = np.linspace(box.left(), box.right(), len(variation.wave))
        middle, half = box.center().y(), box.height() / 2.0
        low, high = (np.clip(self._zoom * side, -1.0, 1.0) for side in variation.wave.T)
        points = [QPointF(x, middle - float(y) * half) for x, y in zip(xs, high, strict=True)]
        points += [QPointF(x, middle - float(y) * half) for x, y in zip(xs[::-1], low[::-1], strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.added_colour(variation.added_db))
        painter.drawPolygon(QPolygonF(points))

    def _paint_tone(self, painter: QPainter, box: QRectF, variation: Variation) -> None:
        middle = box.center().y()
        painter.setPen(QPen(theme.EDGE, 1.0))
        painter.drawLine(QPointF(box.left(), middle), QPointF(box.right(), middle))
        width = box.width() / len(variation.tone_db)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.BEFORE)
        for index, change in enumerate(variation.tone_db):
            if np.isfinite(change):
                height = float(np.clip(change, -_REACH_DB, _REACH_DB)) / _REACH_DB * box.height() / 2.0
                top, bottom = sorted((middle, middle - height))
                painter.drawRect(QRectF(box.left() + index * width, top, max(width - 0.8, 0.8), bottom - top))


class VariationSheet(TryingTool):
    """Makes the table, and lets one hear and apply what is in it."""

    title = "Variations"
    first_size = QSize(1040, 640)
    of_the_stage = True

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 jobs: JobKeeper) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._jobs = selection, messages, jobs
        self._strip_id, self._stage_id = self._selection.strip_id, self._selection.stage_id
        stage = self._stage()
        self.setWindowTitle(f"Variations of {stage.declaration.label} on {self._selection.strip.name}")
        self._made = 0
        self.tiles: list[Tile] = []
        self._shown: list[Tile] = []
        self.heard: Tile | None = None
        self._parameters = [QComboBox() for _ in range(3)]
        self.order, self.random, self.seed = QComboBox(), QCheckBox("Random, seed"), QSpinBox()
        self.progress = QProgressBar()
        self.progress.setAccessibleName("Progress")
        self.progress.setMaximumWidth(160)
        self.state = TextLabel()
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self.buttons: dict[str, QPushButton] = {}
        self._grid = QGridLayout()
        self._lay_out(stage)
        self.make()

    def _lay_out(self, stage: StageSettings) -> None:
        names = {p.id: p.label for p in variable(stage.declaration)}
        chosen = first_choice(stage.declaration)
        top = QHBoxLayout()
        top.addWidget(TextLabel("Along"))
        for index, box in enumerate(self._parameters):
            box.setAccessibleName(f"Parameter {index + 1}")
            let_shrink(box)
            if index:
                box.addItem(_NOTHING, "")
            for name, label in names.items():
                group = stage.declaration.parameter(name).group.value
                box.addItem(f"{label} ({group})", name)
            box.setCurrentIndex(box.findData(chosen[index]) if index < len(chosen) else 0)
            top.addWidget(box, 1)
        self.seed.setRange(1, 9999)
        self.seed.setAccessibleName("Seed")
        self.random.toggled.connect(self._show_random)
        top.addWidget(self.random)
        top.addWidget(self.seed)
        self._add_buttons(top, (("Render", self.make), ("Stop", self.cancel)))
        bottom = QHBoxLayout()
        self.order.setAccessibleName("Order")
        self.order.addItems(list(_ORDERS))
        self.order.currentIndexChanged.connect(lambda _index: self._arrange())
        bottom.addWidget(self.order)
        bottom.addWidget(self.progress)
        bottom.addWidget(self.state, 1)
        self._add_buttons(bottom, (("Apply", self.take_over), ("Revert", self.go_back)))
        layout = QVBoxLayout(self)
        layout.addLayout(top)
        layout.addLayout(self._grid, 1)
        layout.addLayout(bottom)
        self._show_random(False)

    def _add_buttons(self, row: QHBoxLayout, entries: tuple[tuple[str, Callable[[], object]], ...]) -> None:
        for text, slot in entries:
            button = action_button(text, slot)
            row.addWidget(button)
            self.buttons[text] = button

    def _show_random(self, on: bool) -> None:
        self.seed.setEnabled(on)
        for box in self._parameters:
            box.setEnabled(not on)

    def _stage(self) -> StageSettings:
        return self._sessions.session.strip(self._strip_id).stage(self._stage_id)

    # -- making -------------------------------------------------------------------------

    def plan(self) -> Plan:
        """What is to be made, as the window stands."""
        stage = self._stage()
        if self.random.isChecked():
            return at_random(stage.declaration, stage.params, self.seed.value())
        names = dict.fromkeys(box.currentData() for box in self._parameters if box.currentData())
        return along(stage.declaration, stage.params, list(names))

    def make(self) -> None:
        """Make the table again, from how the stage stands now."""
        self.cancel()
        self.drop()
        plan = self.plan()
        clear(self._grid)
        self.tiles = []
        for label in plan.labels:
            tile = Tile(label)
            tile.chosen.connect(functools.partial(self.hear, tile))
            tile.taken.connect(functools.partial(self._take, tile))
            self.tiles.append(tile)
        self._arrange()
        order = VariationOrder(self._strip_id, self._stage_id)
        self._made = 0
        session = self._sessions.session
        self._jobs.start_several(
            self, render_variations, [(session, order, share) for share in dealt(plan.values)],
            part=self._take_variation, done=lambda _: self._end("click: hear    Enter or double-click: apply    "
                                                                "Escape: revert"), failed=self._end)
        self._show_state("rendering; click one to hear it")

    def cancel(self) -> None:
        """Make no more."""
        if self._jobs.is_running_several(self):
            self._jobs.cancel_several(self)
            self._show_state("stopped")

    def _take_variation(self, variation: Variation) -> None:
        self.tiles[variation.number].show_variation(variation)
        self._show_zoom()
        self._made += 1
        self.progress.setValue(round(100 * self._made / len(self.tiles)))

    def _end(self, words: str) -> None:
        self._show_state(words)
        self._arrange()

    def _show_zoom(self) -> None:
        peaks = [float(np.abs(tile.variation.wave).max()) for tile in self.tiles if tile.variation is not None]
        for tile in self.tiles:
            tile.show_zoom(0.95 / max(*peaks, 1e-3))

    def _show_state(self, text: str) -> None:
        self.state.setText(text)
        making = self._jobs.is_running_several(self)
        self.buttons["Render"].setEnabled(not making)
        self.buttons["Stop"].setEnabled(making)

    def _arrange(self) -> None:
        """The tiles in the chosen order; those that are not made yet last."""
        def key(tile: Tile) -> float:
            result = tile.variation
            if result is None:
                return 1e9
            return {"least added first": result.added_db, "most added first": -result.added_db,
                    "darkest first": result.brightness, "brightest first": -result.brightness}.get(
                        self.order.currentText(), float(result.number))

        self._shown = sorted(self.tiles, key=key) if self.order.currentIndex() > 0 else list(self.tiles)
        for index, tile in enumerate(self._shown):
            self._grid.addWidget(tile, index // _ACROSS, index % _ACROSS)

    # -- hearing ------------------------------------------------------------------------

    def _with(self, session: Session, variation: Variation) -> Session:
        session = edit_stage(session, self._strip_id, self._stage_id,
                             lambda stage: replace_stage(stage, params=variation.values, on=True))
        return edit_strip(session, self._strip_id, lambda strip: strip.with_(match_db=variation.offset_db))

    def hear(self, tile: Tile) -> None:
        """What a tile stands for, at once and as loud as before."""
        result = tile.variation
        if result is None:
            return
        self.try_out(lambda session: self._with(session, result))
        self.heard = tile
        for other in self.tiles:
            other.show_lit(other is tile)
        self.state.setText(f"heard: {tile.label}")

    def _take(self, tile: Tile) -> None:
        self.hear(tile)
        self.take_over()

    def take_over(self) -> None:
        """Make what is heard a step of the history, and close."""
        if self.heard is not None:
            label = self.heard.label
            if self.keep_heard(f"Variation {label}"):
                self._messages.say(f"Applied: {label}")
        self.close()

    # -- window -------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = arrow_step(event, _ACROSS)
        if by is None:
            super().keyPressEvent(event)
        else:
            self._step(by)

    def _step(self, by: int) -> None:
        """Hear the tile beside."""
        at = self._shown.index(self.heard) + by if self.heard is not None else 0
        if 0 <= at < len(self._shown):
            self._shown[at].setFocus()
            self.hear(self._shown[at])

    def let_go(self) -> None:
        self.cancel()
        super().let_go()
