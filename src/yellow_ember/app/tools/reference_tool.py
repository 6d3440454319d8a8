"""The reference: how a strip differs from something it is to sound like, and chains that bring it there."""

from __future__ import annotations

import functools
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QDragEnterEvent, QDropEvent, QKeyEvent, QPainter
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QProgressBar,
    QSizePolicy,
    QSlider,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import TryingTool, dropped_files
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.hearing_tile import HearingTile, arrow_step
from yellow_ember.app.widgets.layouts import let_shrink
from yellow_ember.app.widgets.painting import painted
from yellow_ember.app.widgets.plot import Axes, draw_frame, draw_frequency_grid, draw_line, draw_y_grid, round_step
from yellow_ember.app.widgets.text import TextLabel, as_text
from yellow_ember.engine.jobs.reference.references import Reference
from yellow_ember.engine.jobs.reference.search import PROPOSALS, Findings, Proposal, SearchOrder, search
from yellow_ember.files.reading import READABLE, AudioFileError, probe
from yellow_ember.measure.likeness.distance import Respect
from yellow_ember.measure.likeness.figures import MOTION_HZ, figure_curve, figure_words
from yellow_ember.measure.likeness.portrait import Portrait
from yellow_ember.plain_text import with_minus
from yellow_ember.session.edits.chain_summary import chain_summary
from yellow_ember.session.edits.edits import use_chain
from yellow_ember.session.edits.reference_edits import hear_in_place
from yellow_ember.session.values.model import Session
from yellow_ember.shipped import FOUND_REEL

_ACROSS = 3
_FAR_STEPS = 6.0
_WEIGHT_STEPS = 4
"""Of a slider for each doubling of what a respect counts."""
_REFERENCE = "The reference"
_KEYS = "arrow keys: hear    Enter: apply    Escape: revert"


class ProposalTile(HearingTile):
    """A proposal, or the reference itself: its curve against the reference's, how far it is, its chain in words."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.name, self.words = name, ""
        self.proposal: Proposal | None = None
        self._reference: Portrait | None = None
        self._shown = Respect.TONE
        self.setMinimumSize(90, 64)

    def sizeHint(self) -> QSize:
        return QSize(190, 120)

    @property
    def ready(self) -> bool:
        """True where there is something to hear."""
        return self._reference is not None

    def show_reference(self, reference: Portrait | None, words: str) -> None:
        """Stand for the reference; None while it is not known."""
        self._reference, self.words = reference, words
        self.setAccessibleDescription(words)
        self.setToolTip(as_text(words))
        self.update()

    def show_proposal(self, proposal: Proposal | None, reference: Portrait | None) -> None:
        """Stand for a proposal; None for none."""
        self.proposal, self._reference = proposal, reference if proposal is not None else None
        self.words = "" if proposal is None else chain_summary(proposal.chain)
        apart = "" if proposal is None else ", ".join(
            f"{respect.value.lower()} {proposal.distance.steps[respect]:.1f}" for respect in Respect)
        self.setAccessibleDescription(f"{self.words}; steps apart: {apart}" if apart else "")
        self.setToolTip(as_text(f"{self.words}\nSteps apart: {apart}" if apart else ""))
        self.update()

    def show_respect(self, respect: Respect) -> None:
        """Which respect's curve is drawn."""
        self._shown = respect
        self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        box = self.paint_ground(painter)
        inner = box.adjusted(6, 4, -6, -4)
        painter.setPen(theme.TEXT if self.ready else theme.DIM)
        line = painter.fontMetrics().height()
        words = QRectF(inner.left(), inner.top(), inner.width(), line if inner.height() < 50.0 else 2.0 * line)
        painter.drawText(words, int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
                                    | Qt.TextFlag.TextWordWrap), self.words or self.name)
        if self._reference is None:
            return
        bars = QRectF(inner.left(), inner.bottom() - 14.0, inner.width(), 14.0)
        picture = QRectF(inner.left(), words.bottom() + 3.0, inner.width(), bars.top() - words.bottom() - 8.0)
        if picture.height() > 12.0:
            self._paint_curves(painter, picture)
        if self.proposal is not None:
            self._paint_distances(painter, bars)

    def _paint_curves(self, painter: QPainter, box: QRectF) -> None:
        assert self._reference is not None
        hz, wanted, unit = figure_curve(self._reference, self._shown)
        axes = _axes(box, [wanted], unit)
        draw_line(painter, axes, hz, wanted, theme.BEFORE, 1.4)
        if self.proposal is not None:
            draw_line(painter, axes, hz, figure_curve(self.proposal.portrait, self._shown)[1], theme.AFTER, 1.4)

    def _paint_distances(self, painter: QPainter, box: QRectF) -> None:
        """Six bars with the respects' first letters: the longer, the farther away."""
        assert self.proposal is not None
        width = box.width() / len(Respect)
        painter.setFont(theme.font(7))
        for index, respect in enumerate(Respect):
            left = box.left() + index * width
            sure = self.proposal.distance.sure[respect] > 0.05
            painter.setPen(theme.DIM if sure else theme.FAINT)
            painter.drawText(QRectF(left, box.top(), 10.0, box.height()), int(Qt.AlignmentFlag.AlignCenter),
                             respect.value[0])
            room = QRectF(left + 11.0, box.center().y() - 2.5, width - 15.0, 5.0)
            painter.fillRect(room, theme.GROUND)
            if sure:
                share = min(self.proposal.distance.steps[respect] / _FAR_STEPS, 1.0)
                painter.fillRect(QRectF(room.left(), room.top(), max(1.0, room.width() * share), room.height()),
                                 theme.AFTER)


def _axes(frame: QRectF, values: list[np.ndarray], unit: str) -> Axes:
    """Scales on which some curves can be seen."""
    known = np.concatenate([value[np.isfinite(value)] for value in values])
    low, high = (0.0, 1.0) if known.size == 0 else (float(known.min()), float(known.max()))
    room = max(0.1 * (high - low), 0.05 if unit == "%" else 2.0)
    return Axes(frame, 1.0 if unit == "%" else 20.0, 30.0 if unit == "%" else 20000.0,
                0.0 if unit == "%" else low - room, high + room, log_x=True)


class RespectPicture(QWidget):
    """One respect's curves: of the reference, of the strip as it is, of what is heard."""

    def __init__(self) -> None:
        super().__init__()
        self._curves: list[tuple[Portrait, QColor, float]] = []
        self._respect = Respect.TONE
        self.setMinimumHeight(56)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Reference and strip")

    def show_portraits(self, respect: Respect, reference: Portrait | None, before: Portrait | None,
                       heard: Portrait | None) -> None:
        """Draw what is known of them."""
        self._respect = respect
        pairs = ((before, theme.DIM, 1.2), (reference, theme.BEFORE, 2.0), (heard, theme.AFTER, 2.0))
        self._curves = [(portrait, colour, width) for portrait, colour, width in pairs if portrait is not None]
        self.update()

    @painted
    def paintEvent(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PANEL)
        frame = QRectF(38, 8, self.width() - 46, self.height() - 28)
        if not self._curves:
            return
        curves = [figure_curve(portrait, self._respect) for portrait, _, _ in self._curves]
        axes = _axes(frame, [values for _, values, _ in curves], curves[0][2])
        draw_frame(painter, axes)
        draw_y_grid(painter, axes, round_step(axes.y_high - axes.y_low, 4.0))
        motion = self._respect is Respect.MOTION
        if motion:
            painter.setPen(theme.DIM)
            for rate, name in zip(MOTION_HZ, ("wow", "flutter"), strict=True):
                below = QRectF(axes.x(float(rate)) - 30, frame.bottom() + 1, 60, 14)
                painter.drawText(below, int(Qt.AlignmentFlag.AlignCenter), name)
        else:
            draw_frequency_grid(painter, axes)
        for (hz, values, _), (_, colour, width) in zip(curves, self._curves, strict=True):
            draw_line(painter, axes, hz, values, colour, width)
            if motion:
                painter.setBrush(colour)
                for rate, value in zip(hz, values, strict=True):
                    painter.drawEllipse(QPointF(axes.x(float(rate)), axes.y(float(value))), 3.0, 3.0)


class ReferenceTool(TryingTool):
    """What to sound like above, its figures at the left with what matters, proposals at the right."""

    title = "Reference"
    first_size = QSize(1020, 600)
    of_the_strip = True

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 jobs: JobKeeper) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._jobs = selection, messages, jobs
        self._strip_id = self._selection.strip_id
        self.setWindowTitle(f"Reference for {self._selection.strip.name}")
        self.setAcceptDrops(True)
        self.findings: Findings | None = None
        self._files: list[Path] = []
        self._shown = Respect.TONE
        self.source, self.seed = QComboBox(), QSpinBox()
        self.progress = QProgressBar()
        self.state = TextLabel("Choose what the strip is to sound like, or drop a file here.")
        self.reason = TextLabel()
        self.picture = RespectPicture()
        self.sliders: dict[Respect, QSlider] = {}
        self.rows: dict[Respect, QToolButton] = {}
        self._figures: dict[Respect, tuple[TextLabel, TextLabel]] = {}
        self.tiles = [ProposalTile(f"Proposal {number + 1}") for number in range(PROPOSALS)]
        self.reference_tile = ProposalTile(_REFERENCE)
        self._lay_out()
        self._fill_sources()
        self._show_state(self.state.text())

    # -- layout -------------------------------------------------------------------------

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        top.addWidget(TextLabel("Sound like"))
        self.source.setAccessibleName("Reference")
        let_shrink(self.source)
        top.addWidget(self.source, 1)
        top.addLayout(self.button_row((
            ("File\u2026", self._ask_file, "A sound file to sound like"),
            ("Search", self.search, "Look for chains that bring the strip there, from the weights as they are set"),
            ("Stop", self.cancel, "Keep what was found so far"))))
        self.seed.setRange(1, 9999)
        self.seed.setPrefix("seed ")
        self.seed.setMaximumWidth(88)
        self.seed.setAccessibleName("Seed")
        self.seed.setToolTip("The same seed finds the same again; another one may find others")
        top.addWidget(self.seed)
        body = QHBoxLayout()
        body.addLayout(self._left(), 5)
        body.addLayout(self._tiles(), 6)
        bottom = QHBoxLayout()
        self.progress.setAccessibleName("Progress")
        self.progress.setMaximumWidth(140)
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        # A long chain in words must not push the tiles out of sight.
        self.state.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        bottom.addWidget(self.progress)
        bottom.addWidget(self.state, 1)
        bottom.addLayout(self.button_row((
            ("More like this", self.more_like_this, "Look for better ones around the chain that is heard"),
            ("Apply", self.apply, "Keep what you hear, as one step of the history"),
            ("Revert", self.go_back, "Leave the strip as it was"))))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 2, 8, 2)
        layout.setSpacing(3)
        layout.addLayout(top)
        layout.addLayout(body, 1)
        layout.addWidget(self.reason)
        layout.addLayout(bottom)
        self.reason.setWordWrap(True)
        self.reason.setStyleSheet(f"color: {theme.DIM.name()}")

    def _left(self) -> QVBoxLayout:
        """A row for each respect: what it is, its figures, and how much it counts; below that its picture."""
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(2, 1)
        for column, (words, colour) in enumerate((("", theme.DIM), ("Strip", theme.DIM), (_REFERENCE, theme.BEFORE),
                                                  ("Matters", theme.DIM))):
            label = TextLabel(words)
            label.setStyleSheet(f"color: {colour.name()}")
            grid.addWidget(label, 0, column)
        for row, respect in enumerate(Respect, 1):
            name = QToolButton()
            name.setText(respect.value)
            name.setFixedHeight(19)
            name.setCheckable(True)
            name.setAutoExclusive(True)
            name.setChecked(respect is self._shown)
            name.setToolTip(f"Draw {respect.value.lower()}")
            name.clicked.connect(functools.partial(self.show_respect, respect))
            figures = TextLabel("\u2013"), TextLabel("\u2013")
            slider = QSlider(Qt.Orientation.Horizontal)
            slider.setRange(0, 4 * _WEIGHT_STEPS)
            slider.setValue(2 * _WEIGHT_STEPS)
            slider.setFixedWidth(60)
            slider.setAccessibleName(f"How much {respect.value.lower()} matters")
            slider.setToolTip("Left: does not matter. The proposals are put in order at once; Search looks for "
                              "others.")
            slider.valueChanged.connect(self._weigh)
            for column, widget in enumerate((name, *figures, slider)):
                grid.addWidget(widget, row, column)
            grid.setRowMinimumHeight(row, 19)
            for figure in figures:
                figure.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            self.rows[respect], self._figures[respect], self.sliders[respect] = name, figures, slider
        grid.setVerticalSpacing(0)
        grid.setHorizontalSpacing(6)
        left = QVBoxLayout()
        left.addLayout(grid)
        left.addWidget(self.picture, 1)
        return left

    def _tiles(self) -> QGridLayout:
        grid = QGridLayout()
        for index, tile in enumerate(self.tiles):
            grid.addWidget(tile, index // _ACROSS, index % _ACROSS)
        self.reference_tile.setFixedHeight(26)
        grid.setSpacing(4)
        grid.addWidget(self.reference_tile, PROPOSALS // _ACROSS, 0, 1, _ACROSS)
        for tile in (*self.tiles, self.reference_tile):
            tile.chosen.connect(functools.partial(self.hear, tile))
            tile.taken.connect(functools.partial(self._take, tile))
        return grid

    # -- what it is to sound like -------------------------------------------------------

    def _fill_sources(self) -> None:
        """Files that were chosen, passages, snapshots of the strip, other strips."""
        session, strip_id = self._sessions.session, self._strip_id
        entries = [(path.name, Reference(path)) for path in self._files]
        entries += [(f"This strip in {passage.name}", Reference(strip_id=strip_id, passage_id=passage.id))
                    for passage in session.passages]
        entries += [(f"This strip as in {snapshot.title}", Reference(strip_id=strip_id, snapshot=snapshot.key))
                    for snapshot in session.snapshots if snapshot.state(strip_id) is not None]
        entries += [(f"{strip.name}, as it sounds", Reference(strip_id=strip.id))
                    for strip, _ in session.depth_first() if strip.id != strip_id]
        entries.append(("Found reel, an example", Reference(FOUND_REEL)))
        self.source.clear()
        for words, reference in entries:
            self.source.addItem(words, reference)

    def _ask_file(self) -> None:
        kinds = " ".join(f"*{suffix}" for suffix in READABLE)
        name, _ = QFileDialog.getOpenFileName(self, "Sound like", "", f"Audio ({kinds});;All files (*)")
        if name:
            self.use_file(Path(name))

    def use_file(self, path: Path) -> None:
        """Take a file as the reference, and look for chains."""
        try:
            probe(path)
        except AudioFileError as error:
            self._show_state(str(error))
            return
        self._files = [path, *(other for other in self._files if other != path)]
        self._fill_sources()
        self.source.setCurrentIndex(0)
        self.search()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(path.suffix.lower() in READABLE for path in dropped_files(event.mimeData())):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for path in dropped_files(event.mimeData())[:1]:
            self.use_file(path)

    # -- search -------------------------------------------------------------------------

    @property
    def weights(self) -> dict[Respect, float]:
        """How much each respect counts: nothing at the left, 1 in the middle, 4 at the right."""
        return {respect: 0.0 if slider.value() == 0 else 2.0 ** (slider.value() / _WEIGHT_STEPS - 2.0)
                for respect, slider in self.sliders.items()}

    def search(self) -> None:
        """Look for chains, from everything there is."""
        self._start(SearchOrder(self._strip_id, self._reference(), self.seed.value(), self.weights))

    def more_like_this(self) -> None:
        """Look for chains around the one that is heard."""
        if isinstance(self.heard, ProposalTile) and self.heard.proposal is not None:
            self._start(SearchOrder(self._strip_id, self._reference(), self.seed.value(), self.weights,
                                    self.heard.proposal.chain))

    def _reference(self) -> Reference:
        reference = self.source.currentData()
        return reference if isinstance(reference, Reference) else Reference()

    def _start(self, order: SearchOrder) -> None:
        if order.reference == Reference():
            self._show_state("There is nothing to sound like yet. Choose a file.")
            return
        self.cancel()
        self.drop()
        self.findings = None
        self._show_findings()
        self._jobs.start(self, search, self._sessions.session, order, part=self._take_findings,
                         done=lambda _: self._end(_KEYS), failed=self._end)
        self._show_state("searching; what is found can be heard at once")

    def cancel(self) -> None:
        """Look no further."""
        if self._jobs.is_running(self):
            self._jobs.cancel(self)
            self._show_state("stopped; what was found stays")

    def _end(self, words: str) -> None:
        self._show_state(words)

    def _take_findings(self, findings: Findings) -> None:
        """Show what is known by now; what is heard stays where it is."""
        self.findings = findings
        self.progress.setValue(round(100 * self._jobs.share(self)))
        if self.heard is None:
            self._show_findings()
        else:
            self._show_figures()

    def _weigh(self, _value: int) -> None:
        if self.findings is not None:
            weights = self.weights
            ranked = sorted(self.findings.proposals, key=lambda one: one.distance.total(weights))
            self.findings = replace(self.findings, proposals=tuple(ranked))
            self._show_findings()

    def _show_state(self, words: str) -> None:
        self.state.setText(words)
        self.state.setToolTip(words)
        running = self._jobs.is_running(self)
        self.buttons["Search"].setEnabled(not running)
        self.buttons["Stop"].setEnabled(running)
        self.progress.setVisible(running)
        proposed = isinstance(self.heard, ProposalTile) and self.heard.proposal is not None
        self.buttons["More like this"].setEnabled(proposed and not running)
        self.buttons["Apply"].setEnabled(proposed)

    # -- showing ------------------------------------------------------------------------

    def _show_findings(self) -> None:
        findings = self.findings
        proposals = () if findings is None else findings.proposals
        for index, tile in enumerate(self.tiles):
            tile.show_proposal(proposals[index] if index < len(proposals) else None,
                               None if findings is None else findings.reference)
        self._show_figures()

    def _show_figures(self) -> None:
        findings = self.findings
        reference = None if findings is None else findings.reference
        before = None if findings is None else findings.before
        self.reference_tile.show_reference(reference, f"{_REFERENCE}: {self.source.currentText()}")
        for respect, (strip, other) in self._figures.items():
            for label, portrait in ((strip, before), (other, reference)):
                words = "\u2013" if portrait is None else figure_words(portrait, respect)
                label.setText(words.split(",")[0])
                label.setToolTip(as_text(with_minus(words)))
        reasons = () if findings is None else (*findings.remarks, *findings.unreached)
        self.reason.setText(with_minus(" ".join(reasons)))
        self.reason.setVisible(bool(reasons))
        self._show_picture()

    def show_respect(self, respect: Respect, _checked: bool = True) -> None:
        """Draw another respect's curves."""
        self._shown = respect
        for tile in (*self.tiles, self.reference_tile):
            tile.show_respect(respect)
        self._show_picture()

    def _show_picture(self) -> None:
        findings = self.findings
        heard = self.heard.proposal.portrait if isinstance(self.heard, ProposalTile) and self.heard.proposal else None
        self.picture.show_portraits(self._shown, None if findings is None else findings.reference,
                                    None if findings is None else findings.before, heard)

    # -- hearing ------------------------------------------------------------------------

    def hear(self, tile: ProposalTile) -> None:
        """What a tile stands for, at once and as loud as the strip without a chain."""
        findings = self.findings
        if findings is None or not tile.ready:
            return
        try:
            if tile is self.reference_tile:
                seconds = probe(findings.file).seconds
                self.try_out(lambda session: hear_in_place(session, self._strip_id, findings.file, seconds,
                                                           findings.offset_db))
            elif tile.proposal is not None:
                proposal = tile.proposal
                self.try_out(lambda session: self._with(session, proposal))
        except (AudioFileError, ValueError, KeyError) as reason:
            # The file, the strip or the room for a track may be gone meanwhile.
            self._show_state(f"This can't be heard: {reason}")
            return
        self.heard = tile
        for other in (*self.tiles, self.reference_tile):
            other.show_lit(other is tile)
        self._show_picture()
        self._show_state(f"heard: {tile.words}")

    def _with(self, session: Session, proposal: Proposal) -> Session:
        return use_chain(session, self._strip_id, proposal.chain, (), proposal.offset_db)

    def _take(self, tile: ProposalTile) -> None:
        self.hear(tile)
        self.apply()

    def apply(self) -> None:
        """Make the proposal that is heard a step of the history, and close."""
        tile = self.heard
        if not isinstance(tile, ProposalTile) or tile.proposal is None:
            return
        label = f"Like the reference: {tile.words}"
        if self.keep_heard(label):
            self._messages.say(f"Applied: {tile.words}")
        self.close()

    # -- window -------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = arrow_step(event, _ACROSS)
        if by is None:
            super().keyPressEvent(event)
        else:
            self._step(by)

    def _step(self, by: int) -> None:
        """Hear the tile beside; below the proposals lies the reference."""
        tiles = [*self.tiles, self.reference_tile]
        at = min(tiles.index(self.heard) + by, PROPOSALS) if self.heard in tiles else 0
        if at >= 0 and tiles[at].ready:
            tiles[at].setFocus()
            self.hear(tiles[at])

    def let_go(self) -> None:
        self.cancel()
        super().let_go()
