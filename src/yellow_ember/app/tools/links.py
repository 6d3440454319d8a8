"""Link groups in a window: who is in them, what is linked, and what is done to all of a group at once."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
)

from yellow_ember.app.state.matcher import Matcher
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.playback import Playback
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import Tool
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.text import TextLabel
from yellow_ember.session.document import Edit
from yellow_ember.session.edits.link_edits import (
    bypass_group,
    bypassed,
    edit_link,
    leave_link,
    link_stages,
    link_strips,
    linkable,
    remove_link,
    solo_group,
    strips_of,
)
from yellow_ember.session.values.links import LinkGroup
from yellow_ember.session.values.model import Session

_WAYS = (("Relative", True), ("Absolute", False))


class LinksTool(Tool):
    """Groups at the left; members, what is linked and what to do with all at the right."""

    title = "Links"
    first_size = QSize(760, 480)

    def __init__(self, sessions: SessionKeeper, selection: Selection, playback: Playback, messages: Messages,
                 matcher: Matcher) -> None:
        super().__init__(sessions, playback)
        self._selection, self._messages, self._matcher = selection, messages, matcher
        self.setWindowTitle("Links")
        self._shown: object = None
        self.groups, self.members, self.parameters = QListWidget(), QListWidget(), QListWidget()
        for box, name in ((self.groups, "Groups"), (self.members, "Members"), (self.parameters, "What is linked")):
            box.setAccessibleName(name)
        self.groups.currentRowChanged.connect(lambda _row: self._show_group())
        self.parameters.itemChanged.connect(lambda _item: self._take_parameters())
        self.way = QComboBox()
        self.way.setAccessibleName("How the others move")
        self.way.addItems([text for text, _ in _WAYS])
        self.way.activated.connect(self._set_way)
        self.state = TextLabel()
        self.state.setWordWrap(True)
        self.state.setStyleSheet(f"color: {theme.DIM.name()}")
        self._lay_out()
        self._sessions.changed.connect(self.refresh)
        self._selection.changed.connect(self.refresh)
        self._playback.comparing.connect(self.refresh)
        self.refresh()

    def _lay_out(self) -> None:
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(TextLabel("Groups"))
        left.addWidget(self.groups, 1)
        for entry in (("Link the chosen strips", self.link_chosen, "Ctrl+click strips in the desk first"),
                      ("Link their stages of a kind", self.link_kind,
                       "The chosen stage, with the first of its kind on every other chosen strip")):
            left.addLayout(self.button_row((entry,)))
        right.addWidget(TextLabel("Members"))
        right.addWidget(self.members, 1)
        right.addWidget(self.way)
        right.addWidget(TextLabel("Linked controls (all, or the ticked ones)"))
        right.addWidget(self.parameters, 2)
        right.addLayout(self.button_row((
            ("Bypass", self.bypass, "All members at once"), ("Solo", self.solo, "All strips of the group"),
            ("Before", self.compare, "Hear all of the group before or after, at equal loudness"),
            ("Match", self.match, "Make after as loud as before on every strip of the group"))))
        right.addLayout(self.button_row((
            ("Leave", self.leave, "Take the chosen member out; it keeps its values"),
            ("Dissolve", self.dissolve, "Unlink all; every member keeps its values"))))
        for text in ("Bypass", "Solo", "Before"):
            self.buttons[text].setCheckable(True)
        across = QHBoxLayout()
        across.addLayout(left, 2)
        across.addLayout(right, 3)
        layout = QVBoxLayout(self)
        layout.addLayout(across, 1)
        layout.addWidget(self.state)

    # -- showing ------------------------------------------------------------------------

    @property
    def group(self) -> LinkGroup | None:
        """The chosen group."""
        links, row = self._sessions.session.links, self.groups.currentRow()
        return links[row] if 0 <= row < len(links) else None

    def refresh(self) -> None:
        """Show the session's groups as they are now."""
        session = self._sessions.session
        requested = [(group, [session.strip(strip_id).name for strip_id in strips_of(session, group)])
                     for group in session.links]
        if requested != self._shown:
            before = self.group if self._shown is not None else None
            self._shown = requested
            row = max(self.groups.currentRow(), 0)
            self.groups.blockSignals(True)
            self.groups.clear()
            for group, names in requested:
                self.groups.addItem(f"{group.name}    {', '.join(names)}")
            ids = [group.id for group in session.links]
            row = ids.index(before.id) if before is not None and before.id in ids else min(row, len(ids) - 1)
            self.groups.setCurrentRow(row)
            self.groups.blockSignals(False)
            self._show_group()
        self._show_buttons(session)

    def _show_group(self) -> None:
        session, group = self._sessions.session, self.group
        for box in (self.members, self.parameters):
            box.blockSignals(True)
            box.clear()
        if group is not None:
            for strip_id in strips_of(session, group):
                strip = session.strip(strip_id)
                for member, label in ((strip.id, strip.name), *((stage.id, f"{strip.name}: {stage.declaration.label}")
                                                                for stage in strip.chain)):
                    if member in group.members:
                        item = QListWidgetItem(label)
                        item.setData(Qt.ItemDataRole.UserRole, member)
                        self.members.addItem(item)
            for name, label in linkable(session, group).items():
                item = QListWidgetItem(label)
                item.setData(Qt.ItemDataRole.UserRole, name)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if group.links(name) else Qt.CheckState.Unchecked)
                self.parameters.addItem(item)
            self.way.setCurrentIndex([way for _, way in _WAYS].index(group.relative))
        for box in (self.members, self.parameters):
            box.blockSignals(False)
        self._show_buttons(session)

    def _show_buttons(self, session: Session) -> None:
        group = self.group
        for text in ("Bypass", "Solo", "Before", "Match", "Leave", "Dissolve"):
            self.buttons[text].setEnabled(group is not None)
        self.way.setEnabled(group is not None)
        self.buttons["Link the chosen strips"].setEnabled(len(self._selection.chosen) > 1)
        self.buttons["Link their stages of a kind"].setEnabled(len(self._of_kind()) > 1)
        self.buttons["Bypass"].setChecked(group is not None and bypassed(session, group))
        strips = () if group is None else strips_of(session, group)
        self.buttons["Solo"].setChecked(bool(strips) and all(session.strip(strip_id).solo for strip_id in strips))
        self.buttons["Before"].setChecked(self._playback.before and self._selection.strip_id in strips)
        self.state.setText("A change to one member moves all, as one step. Joining and leaving move nobody." if group
                           else "No strips are linked. Ctrl+click or Shift+click strips in the desk, then link them.")

    # -- making and changing ------------------------------------------------------------

    def _commit(self, label: str, edit: Edit) -> None:
        self._sessions.document.commit(label, edit)
        self.refresh()

    def link_chosen(self) -> None:
        """A new group of the strips that are chosen in the desk."""
        self._commit("Link strips", lambda session: link_strips(session, self._selection.chosen))
        self.groups.setCurrentRow(self.groups.count() - 1)

    def _of_kind(self) -> tuple[str, ...]:
        """The chosen stage, and the first of its kind on every other chosen strip."""
        if not self._selection.stage_id:
            return ()
        kind, result = self._selection.strip.stage(self._selection.stage_id).kind, [self._selection.stage_id]
        for strip_id in self._selection.chosen:
            if strip_id != self._selection.strip_id:
                result += [stage.id for stage in self._sessions.session.strip(strip_id).chain if stage.kind == kind][:1]
        return tuple(result)

    def link_kind(self) -> None:
        """A new group of the chosen stage and those of its kind on the other chosen strips."""
        self._commit("Link stages", lambda session: link_stages(session, self._of_kind()))
        self.groups.setCurrentRow(self.groups.count() - 1)

    def _set_way(self, index: int) -> None:
        if self.group is not None:
            group_id = self.group.id
            self._commit("How links move", lambda session: edit_link(
                session, group_id, lambda group: replace(group, relative=_WAYS[index][1])))

    def _take_parameters(self) -> None:
        group = self.group
        if group is None:
            return
        items = [self.parameters.item(row) for row in range(self.parameters.count())]
        ticked = tuple(item.data(Qt.ItemDataRole.UserRole) for item in items
                       if item is not None and item.checkState() is Qt.CheckState.Checked)
        if not ticked:
            self._messages.say("A link of nothing is no link: dissolve it instead")
            self._show_group()
            return
        chosen = () if len(ticked) == len(items) else ticked
        self._commit("What is linked", lambda session: edit_link(
            session, group.id, lambda old: replace(old, parameters=chosen)))

    def leave(self) -> None:
        """The chosen member out of the group."""
        item = self.members.currentItem()
        if item is not None:
            member = item.data(Qt.ItemDataRole.UserRole)
            self._commit("Leave link", lambda session: leave_link(session, member))

    def dissolve(self) -> None:
        group = self.group
        if group is not None:
            self._commit(f"Dissolve link {group.name}", lambda session: remove_link(session, group.id))

    # -- all at once --------------------------------------------------------------------

    def bypass(self) -> None:
        """All members bypassed, or none."""
        session, group = self._sessions.session, self.group
        if group is not None:
            self._commit(f"Bypass link {group.name}",
                         lambda now: bypass_group(now, group, bypass=not bypassed(session, group)))

    def solo(self) -> None:
        """All strips of the group soloed, or none."""
        session, group = self._sessions.session, self.group
        if group is not None:
            on = not all(session.strip(strip_id).solo for strip_id in strips_of(session, group))
            self._commit(f"Solo link {group.name}", lambda now: solo_group(now, group, solo=on))

    def compare(self) -> None:
        """All strips of the group before their chains, or after."""
        group = self.group
        if group is not None:
            strips = strips_of(self._sessions.session, group)
            before = self._playback.before and self._selection.strip_id in strips
            if self._selection.strip_id not in strips:
                self._selection.choose_only(strips[0])
            self._playback.hear_before(not before)
            self.refresh()

    def match(self) -> None:
        """After as loud as before on every strip of the group."""
        if self.group is not None:
            self._matcher.match_all(strips_of(self._sessions.session, self.group))
