"""Typing where a region, a passage, a marker or a lane's point lies."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QDoubleSpinBox, QFormLayout, QLineEdit, QWidget

from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.dialogs import FormDialog
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.dsp.parameters import Number, as_number
from yellow_ember.engine.placing import Placed
from yellow_ember.plain_text import plain_line
from yellow_ember.session.edits.lane_edits import moved_point, put_lane
from yellow_ember.session.edits.time_edits import edit_passage, edit_region, replace_marker
from yellow_ember.session.values.drawn import find_lane, lane_parameter
from yellow_ember.session.values.limits import MAXIMUM_NAME
from yellow_ember.session.values.places import LONGEST_FADE, Marker, Passage
from yellow_ember.session.values.regions import LAST_SECOND


def _seconds(value: float, most: float = LAST_SECOND) -> QDoubleSpinBox:
    """A field for a time."""
    field = QDoubleSpinBox()
    field.setDecimals(4)
    field.setRange(0.0, most)
    field.setSingleStep(0.01)
    field.setSuffix(" s")
    field.setValue(value)
    return field


class RegionDialog(FormDialog):
    """Start, in, out and fades of a region."""

    def __init__(self, sessions: SessionKeeper, strip_id: str, place: Placed, parent: QWidget) -> None:
        super().__init__(parent)
        self._sessions, self._strip_id, self._place = sessions, strip_id, place
        self.setWindowTitle(plain_line(place.region.audio.name))
        region, self._length = place.region, place.sound.frames / place.sound.rate
        self.start = _seconds(region.start)
        self.begin = _seconds(region.begin, self._length)
        self.out = _seconds(self._length if region.end is None else region.end, self._length)
        self.fade_in, self.fade_out = _seconds(region.fade_in, self._length), _seconds(region.fade_out, self._length)
        form = QFormLayout()
        form.addRow("Start in the session", self.start)
        form.addRow("In of the file", self.begin)
        form.addRow("Out of the file", self.out)
        form.addRow("Fade in", self.fade_in)
        form.addRow("Fade out", self.fade_out)
        self.lay_out(form, f"The file is {self._length:.3f} s long.", "Place")

    def accept(self) -> None:
        out = self.out.value()
        region = replace(self._place.region, start=self.start.value(), begin=self.begin.value(),
                         end=out if out < self._length - 1e-4 else None,
                         fade_in=self.fade_in.value(), fade_out=self.fade_out.value())
        self._sessions.document.commit("Place a region", lambda session: edit_region(
            session, self._strip_id, region, self._length))
        super().accept()


class PassageDialog(FormDialog):
    """Name, ends and fades of a passage."""

    def __init__(self, sessions: SessionKeeper, passage: Passage, parent: QWidget) -> None:
        super().__init__(parent)
        self._sessions, self._passage = sessions, passage
        self.setWindowTitle("Passage")
        self.name = QLineEdit(passage.name)
        self.name.setMaxLength(MAXIMUM_NAME)
        self.start, self.end = _seconds(passage.start), _seconds(passage.end)
        self.fade_in = _seconds(passage.fade_in, LONGEST_FADE)
        self.fade_out = _seconds(passage.fade_out, LONGEST_FADE)
        form = QFormLayout()
        form.addRow("Name", self.name)
        form.addRow("Start", self.start)
        form.addRow("End", self.end)
        form.addRow("Fade in", self.fade_in)
        form.addRow("Fade out", self.fade_out)
        self.lay_out(form, "What acts in this passage alone comes in behind its start and goes out behind its end.")

    def accept(self) -> None:
        passage = replace(self._passage, name=plain_line(self.name.text()) or self._passage.name,
                          start=self.start.value(), end=self.end.value(), fade_in=self.fade_in.value(),
                          fade_out=self.fade_out.value())
        self._sessions.document.commit("Passage", lambda session: edit_passage(session, passage))
        super().accept()


class MarkerDialog(FormDialog):
    """Name and place of a marker."""

    def __init__(self, sessions: SessionKeeper, marker: Marker, parent: QWidget) -> None:
        super().__init__(parent)
        self._sessions, self._marker = sessions, marker
        self.setWindowTitle("Marker")
        self.name = QLineEdit(marker.name)
        self.name.setMaxLength(MAXIMUM_NAME)
        self.at = _seconds(marker.at)
        form = QFormLayout()
        form.addRow("Name", self.name)
        form.addRow("At", self.at)
        self.lay_out(form, "")

    def accept(self) -> None:
        marker = Marker(self.at.value(), plain_line(self.name.text()))
        self._sessions.document.commit("Marker", lambda session: replace_marker(session, self._marker, marker))
        super().accept()


class PointDialog(FormDialog):
    """Time and value of a lane's point."""

    def __init__(self, sessions: SessionKeeper, strip_id: str, stage_id: str, name: str, number: int,
                 parent: QWidget) -> None:
        super().__init__(parent)
        strip = sessions.session.strip(strip_id)
        lane = find_lane(strip, stage_id, name)
        assert lane is not None
        self._sessions, self._strip_id, self._stage_id = sessions, strip_id, stage_id
        self._lane, self._number, self._parameter = lane, number, lane_parameter(strip, stage_id, name)
        point = lane.points[number]
        self.setWindowTitle(f"Point of {self._parameter.label}")
        self.at = _seconds(point.seconds)
        number_of = self._parameter
        self.value = QLineEdit(number_of.text(point.value) if isinstance(number_of, Number) else f"{point.value:g}")
        self.value.setAccessibleName("Value")
        self.trouble = TextLabel()
        form = QFormLayout()
        form.addRow("At", self.at)
        form.addRow("Value", self.value)
        form.addRow(self.trouble)
        self.lay_out(form, "A point stays between its neighbours.")

    def accept(self) -> None:
        try:
            if isinstance(self._parameter, Number):
                value = as_number(self._parameter.parse(self.value.text()))
            else:
                value = min(max(float(self.value.text()), 0.0), 1.0)
        except (ValueError, TypeError) as reason:
            self.trouble.setText(f"No value: {reason}")
            return
        point = replace(self._lane.points[self._number], seconds=self.at.value(), value=value)
        lane = moved_point(self._lane, self._number, point)
        self._sessions.document.commit(f"Point of {self._parameter.label}", lambda session: put_lane(
            session, self._strip_id, self._stage_id, lane))
        super().accept()
