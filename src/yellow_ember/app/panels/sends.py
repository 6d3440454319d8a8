"""The chosen strip's sends: a level for each, before or behind the fader."""

from __future__ import annotations

import dataclasses

from PyQt6.QtWidgets import QMenu, QPushButton, QVBoxLayout, QWidget

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.widgets.layouts import clear
from yellow_ember.app.widgets.text import menu_text
from yellow_ember.app.widgets.value_bar import ValueBar
from yellow_ember.dsp.parameters import Value, as_number
from yellow_ember.session.edits.edits import remove_send, set_send
from yellow_ember.session.values.model import Send, StripKind
from yellow_ember.session.values.strip_values import SEND_LEVEL

_NEW_DB = -12.0


class Sends(QWidget):
    """Bars that come and go with the strip's sends, and a button for another."""

    def __init__(self, sessions: SessionKeeper, selection: Selection) -> None:
        super().__init__()
        self._sessions, self._selection = sessions, selection
        self._gesture = Gesture(self._sessions)
        self._shown: object = None
        self.bars: dict[str, ValueBar] = {}
        self.add = QPushButton("Add a send\u2026")
        self.add.setToolTip("A second way out of this strip, into a bus with an echo or a room")
        self.add.clicked.connect(lambda: self.menu().popup(self.add.mapToGlobal(self.add.rect().bottomLeft())))
        self._bars = QVBoxLayout()
        self._bars.setSpacing(3)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        layout.addLayout(self._bars)
        layout.addWidget(self.add)
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen strip's sends as they are now."""
        session, strip = self._sessions.session, self._selection.strip
        requested = strip.id, [(send.to, send.pre, session.strip(send.to).name) for send in strip.sends]
        if requested != self._shown:
            self._shown = requested
            self._build()
        for send in strip.sends:
            self.bars[send.to].show_value(send.level_db)
        self.add.setVisible(strip.kind is not StripKind.MASTER and bool(self._buses()))

    def _buses(self) -> list[tuple[str, str]]:
        """Ids and names of what the strip could send to."""
        session, strip = self._sessions.session, self._selection.strip
        closed = session.upstream(strip.id) | {send.to for send in strip.sends}
        return [(bus.id, bus.name) for bus in session.strips if bus.kind is StripKind.BUS and bus.id not in closed]

    def _build(self) -> None:
        self._gesture.keep()
        clear(self._bars)
        self.bars = {}
        session = self._sessions.session
        for send in self._selection.strip.sends:
            name = session.strip(send.to).name
            where = "before" if send.pre else "behind"
            bar = ValueBar(dataclasses.replace(
                SEND_LEVEL, id=f"send-{send.to}", label=f"To {name}{', pre' if send.pre else ''}",
                help=f"How much of the strip, {where} its fader, goes to {name}. Right click: pre or post, remove."))
            bar.changing.connect(lambda value, to=send.to: self._set(to, value))
            bar.committed.connect(lambda _value: self._gesture.keep())
            bar.menu_opening.connect(lambda menu, to=send.to: self._offer(menu, to))
            self.bars[send.to] = bar
            self._bars.addWidget(bar)

    def _send(self, to: str) -> Send:
        return next(send for send in self._selection.strip.sends if send.to == to)

    def _set(self, to: str, value: Value) -> None:
        strip_id, send = self._selection.strip_id, self._send(to).with_(level_db=as_number(value))
        self._gesture.show(f"Send to {self._sessions.session.strip(to).name}", (strip_id, to),
                           lambda session: set_send(session, strip_id, send))

    def _offer(self, menu: QMenu, to: str) -> None:
        send = self._send(to)
        name = self._sessions.session.strip(to).name
        menu.addSeparator()
        menu.addAction("Post-fader" if send.pre else "Pre-fader", lambda: self._sessions.document.commit(
            f"Send to {name}", lambda session: set_send(session, self._selection.strip_id,
                                                        send.with_(pre=not send.pre))))
        menu.addAction("Remove the send", lambda: self._sessions.document.commit(
            f"Remove send to {name}", lambda session: remove_send(session, self._selection.strip_id, to)))

    def menu(self) -> QMenu:
        """The buses that the strip does not send to yet."""
        menu = QMenu(self)
        for bus_id, name in self._buses():
            menu.addAction(menu_text(name), lambda to=bus_id, what=name: self._sessions.document.commit(
                f"Send to {what}", lambda session: set_send(
                    session, self._selection.strip_id, Send(to=to, level_db=_NEW_DB))))
        return menu
