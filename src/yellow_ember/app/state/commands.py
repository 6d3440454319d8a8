"""What can be asked of the program by menus, keys and the palette, with keys that a user may change."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtGui import QAction, QKeySequence

from yellow_ember.app.state.settings import Settings
from yellow_ember.files.atomic import write_text
from yellow_ember.files.json_files import JsonFileError, read_object

_FORMAT = "yellow-ember/keys"


@dataclass(frozen=True, slots=True)
class Command:
    """name : as the menu calls it, without dots, the same in all sessions; menu : which menu; default : its keys"""

    name: str
    menu: str
    default: str
    action: QAction

    @property
    def keys(self) -> str:
        """Its keys now, as text; "" for none."""
        return self.action.shortcut().toString()


class Commands:
    """All commands, in the order of the menus."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self.all: list[Command] = []

    def add(self, name: str, menu: str, keys: str, action: QAction) -> None:
        """Take in a command, and give it the user's keys, or its own."""
        command = Command(name, menu, keys, action)
        self.all.append(command)
        self._apply(command)

    def _apply(self, command: Command) -> None:
        command.action.setShortcut(QKeySequence(self._settings.keys.get(command.name, command.default)))

    def find(self, name: str) -> Command:
        """The command of that name; KeyError where there is none."""
        for command in self.all:
            if command.name == name:
                return command
        raise KeyError(name)

    def change(self, name: str, keys: str) -> list[str]:
        """Give a command other keys ("" for none); names of those that lose theirs by it."""
        taken = QKeySequence(keys).toString()
        losing = [other for other in self.all if taken and other.keys == taken and other.name != name]
        for command, new in [(self.find(name), taken), *((other, "") for other in losing)]:
            others = {key: value for key, value in self._settings.keys.items() if key != command.name}
            same = new == QKeySequence(command.default).toString()
            self._settings.keys = others if same else {**others, command.name: new}
            self._apply(command)
        return [command.name for command in losing]

    def to_defaults(self) -> None:
        """Give every command its own keys again."""
        self._settings.keys = {}
        for command in self.all:
            self._apply(command)

    def export(self, path: Path) -> None:
        """Write the keys of all commands.  OSError where it can't be."""
        write_text(path, json.dumps({"format": _FORMAT, "version": 1, "keys": {
            command.name: command.keys for command in self.all}}, indent=1) + "\n")

    def take_in(self, path: Path) -> None:
        """Take keys from a file; commands that it does not name keep theirs.  ValueError says what is wrong with it."""
        try:
            content = read_object(path)
        except (OSError, JsonFileError) as error:
            raise ValueError(str(error)) from None
        keys = content.get("keys")
        if content.get("format") != _FORMAT or not isinstance(keys, dict):
            raise ValueError(f"{path} holds no keys")
        known = {command.name for command in self.all}
        self._settings.keys = {**self._settings.keys, **{
            name: QKeySequence(value).toString() for name, value in keys.items()
            if name in known and isinstance(value, str)}}
        for command in self.all:
            self._apply(command)
