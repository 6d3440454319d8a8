"""Recording from the window: what is armed, where it begins and ends, and what becomes of what was recorded."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.live.messages import ArmedStrip, Record, Recorded, RecordedTake, RoundTrip
from yellow_ember.files.file_marks import read_marks
from yellow_ember.files.reading import AudioFileError, probe
from yellow_ember.folders import Base, folder
from yellow_ember.plain_text import plain_file_name
from yellow_ember.session.edits.live_edits import listen
from yellow_ember.session.edits.take_edits import add_takes, choose_take, forget_take, take_of
from yellow_ember.session.values.model import Session, Strip

ALL, LOOP = "all", "loop"
"""Where recording may lie: everywhere, within the loop; or a passage, by its id."""
PRE_ROLLS = (0.0, 1.0, 2.0, 4.0)
"""Seconds that are played before recording begins."""


class Recording(QObject):
    """Arms tracks, records them, and puts what was recorded onto them; `changed` when any of that does."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, settings: Settings,
                 messages: Messages, imports: Imports) -> None:
        super().__init__()
        self._sessions, self._selection, self._playback = sessions, selection, playback
        self._settings, self._messages, self._imports = settings, messages, imports
        self._armed: frozenset[str] = frozenset()
        self.inside = ALL
        self._order: Record | None = None
        """What is being recorded."""
        self._found: frozenset[Path] = frozenset()
        """Files that were in its folder before."""
        self._restarts = 0
        self._measuring = False
        sessions.adopting.connect(self._on_adopting)
        sessions.opened.connect(self.changed)
        playback.beat.connect(self._on_beat)

    # -- what is armed ------------------------------------------------------------------

    @property
    def armed(self) -> tuple[str, ...]:
        """Ids of the tracks that the next recording is of, in the desk's order."""
        return tuple(strip.id for strip in self._sessions.session.strips
                     if strip.id in self._armed and strip.live is not None)

    @property
    def running(self) -> bool:
        """True from the moment it was asked for until all is on its track."""
        return self._order is not None

    def arm(self, strip_id: str, *, on: bool) -> None:
        """Have a track with an input recorded the next time, or not."""
        self._armed = self._armed | {strip_id} if on else self._armed - {strip_id}
        self.changed.emit()

    def arm_chosen(self) -> None:
        """Arm the chosen track, or no more; said where it has no input."""
        strip = self._selection.strip
        if strip.live is None:
            self._messages.say(f"{strip.name} has no input to record: give it one by its menu, Input")
        else:
            self.arm(strip.id, on=strip.id not in self._armed)

    def _on_adopting(self, _session: Session) -> None:
        # The views have the session's strips only when it is open; they are told then.
        self._armed, self._order, self.inside = frozenset(), None, ALL

    # -- how ----------------------------------------------------------------------------

    @property
    def pre_roll(self) -> float:
        """Seconds that are played before recording begins."""
        return self._settings.pre_roll

    def set_pre_roll(self, seconds: float) -> None:
        self._settings.pre_roll = seconds

    @property
    def path_too(self) -> bool:
        """Whether what leaves the paths is written as well."""
        return self._settings.record_path

    def set_path_too(self, on: bool) -> None:
        self._settings.record_path = on

    def stretch(self) -> tuple[int, int] | None:
        """Frames within which is recorded; None for everywhere."""
        session = self._sessions.session
        if self.inside == LOOP and session.loop.end > session.loop.start:
            return session.loop.start, session.loop.end
        for passage in session.passages:
            if passage.id == self.inside:
                return round(passage.start * session.rate), round(passage.end * session.rate)
        return None

    @property
    def _device(self) -> str:
        """What a round trip is true for."""
        engine = self._playback.engine
        return "" if engine is None else f"{engine.device}, {self._sessions.session.rate} Hz, {engine.block} frames"

    @property
    def round_trip(self) -> int | None:
        """The measured round trip of the present device in frames, None where none was measured."""
        kept = self._settings.round_trips.get(self._device, "")
        return int(kept) if kept.isdecimal() else None

    def measure_round_trip(self) -> None:
        """Measure it at the chosen track's input."""
        strip, engine = self._selection.strip, self._playback.engine
        if engine is None or not strip.listens:
            self._messages.warn("Choose a track that listens, and connect the card's output to its input")
            return
        self._measuring, self._restarts = True, engine.restarts
        self._messages.say("Measuring the round trip\u2026")
        engine.measure_round_trip(strip.id)

    # -- recording ----------------------------------------------------------------------

    def toggle(self) -> None:
        """Record what is armed, or stop."""
        if not self.running:
            self._begin()
        elif self._playback.engine is not None:
            self._playback.engine.stop()
            self._playback.engine.end_recording()

    def _begin(self) -> None:
        engine, session = self._playback.engine, self._sessions.session
        if not self.armed and self._selection.strip.live is not None:
            self.arm(self._selection.strip_id, on=True)
        armed = [session.strip(strip_id) for strip_id in self.armed]
        if engine is None or not armed:
            self._messages.say("Arm a track that listens to an input first")
            return
        try:
            place = self._folder()
            self._found = frozenset(place.glob("*.wav"))
        except OSError as error:
            self._messages.warn(f"Nothing can be recorded: {error.strerror}: {error.filename}")
            return
        self._listen(armed)
        state, within = self._playback.state, self.stretch()
        by_hand = state.playing and within is None
        first, end = within or (0 if by_hand else state.position, None)
        self._order = Record(
            tuple(ArmedStrip(strip.id, plain_file_name(strip.name), self.path_too) for strip in armed), place, first,
            end, self.round_trip, round(session.starts_at * session.rate),
            max(0, (state.position if by_hand else first) - round(self.pre_roll * session.rate)))
        self._restarts = engine.restarts
        engine.record(self._order)
        self._playback.wake()
        self._messages.say(f"Recording {_names(armed)}")
        self.changed.emit()

    def _listen(self, armed: Iterable[Strip]) -> None:
        """Let those that play what was recorded last listen again."""
        silent = [strip for strip in armed if not strip.listens]

        def edit(session: Session) -> Session:
            for strip in silent:
                assert strip.live is not None
                session = listen(session, strip.id, replace(strip.live, on=True))
            return session

        if silent:
            self._sessions.document.commit(f"Listen: {_names(silent)}", edit)

    def _folder(self) -> Path:
        """Where recordings go: beside the session's file, or to the program's own folder; made where it is not."""
        path = self._sessions.document.path
        if path is None or self._sessions.is_shipped:
            return folder(Base.DATA, "recordings")
        place = path.with_name(f"{path.stem} recordings")
        place.mkdir(exist_ok=True)
        return place

    def _on_beat(self) -> None:
        engine = self._playback.engine
        if engine is None:
            return
        for answer in engine.take_answers():
            if isinstance(answer, RoundTrip):
                self._take_round_trip(answer.frames)
            elif isinstance(answer, Recorded) and self._order is not None:
                self._take(answer)
        if engine.restarts != self._restarts:
            self._restarts = engine.restarts
            if self._order is not None:
                self._take(Recorded(self._left_behind(self._order), "The engine ended while recording"))
            if self._measuring:
                self._measuring = False
                self._messages.warn("The engine ended while the round trip was measured: measure it once more")

    def _take_round_trip(self, frames: int | None) -> None:
        if not self._measuring:
            return
        self._measuring = False
        if frames is None:
            self._messages.warn("Nothing came back: connect the card's output to the chosen track's input")
        else:
            self._settings.round_trips = {**self._settings.round_trips, self._device: str(frames)}
            ms = 1000.0 * frames / self._sessions.session.rate
            self._messages.say(f"The round trip is {frames} samples ({ms:.1f} ms); recordings are placed by it")

    def _left_behind(self, order: Record) -> tuple[RecordedTake, ...]:
        """What an engine that ended has left in its folder."""
        takes = []
        for path in sorted(set(order.folder.glob("*.wav")) - self._found):
            for strip in order.strips:
                name, of_path = path.stem.rpartition(" ")[0], f"{strip.name} path"
                if name not in (strip.name, of_path):
                    continue
                try:
                    info, time = probe(path), read_marks(path).time
                except AudioFileError:
                    continue
                position = round((time or 0.0) * info.rate) - order.starts_at
                takes.append(RecordedTake(strip.strip_id, path, position, info.frames, name == of_path))
        return tuple(takes)

    def _take(self, recorded: Recorded) -> None:
        """Put what was recorded onto its tracks, as one step."""
        self._order = None
        rate, by_strip = self._sessions.session.rate, defaultdict(list)
        here = {strip.id: strip for strip in self._sessions.session.strips}
        for take in recorded.takes:
            if take.strip_id in here and not take.of_path:
                by_strip[take.strip_id].append(take_of(take.path, take.position / rate, take.frames / rate))
        names = _names(here[strip_id] for strip_id in by_strip)

        def edit(session: Session) -> Session:
            for strip_id, takes in by_strip.items():
                session = add_takes(session, strip_id, takes, self._length_of)
            return session

        if recorded.trouble:
            self._messages.warn(recorded.trouble)
        if by_strip:
            self._sessions.document.commit(f"Record {names}", edit)
            self._messages.say(f"Recorded {names}, into {recorded.takes[0].path.parent.name}")
        elif not recorded.trouble:
            self._messages.say("Nothing was recorded")
        self.changed.emit()

    # -- takes --------------------------------------------------------------------------

    def _length_of(self, path: Path) -> float:
        sound = self._imports.ready(path)
        return 0.0 if sound is None else sound.frames / sound.rate

    def choose_take(self, strip_id: str, take_id: str) -> None:
        """Hear a take in place of what lies where it was recorded."""
        self._sessions.document.commit("Choose a take", lambda session: choose_take(
            session, strip_id, take_id, self._length_of))

    def forget_take(self, strip_id: str, take_id: str) -> None:
        """Keep a take no longer; its file stays."""
        self._sessions.document.commit("Forget a take", lambda session: forget_take(session, strip_id, take_id))


def _names(strips: Iterable[Strip]) -> str:
    return ", ".join(strip.name for strip in strips)
