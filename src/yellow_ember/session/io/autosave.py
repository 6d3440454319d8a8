"""Work that no file of the user's holds: unsaved edits, work that was set aside, and earlier saved versions.

All of it lies in the XDG state folder as cards: the session, the file it belongs to, and when it was kept.  Unsaved
edits have one card for each running window, named by its process; a card whose process is gone is what a crash left.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import time
from dataclasses import dataclass
from pathlib import Path

from yellow_ember.files.atomic import free_name, write_text
from yellow_ember.files.process_tags import is_running, own_tag
from yellow_ember.folders import Base, folder
from yellow_ember.session.io.file_format import SessionFileError, load_object
from yellow_ember.session.io.session_file import session_from_object, session_to_object
from yellow_ember.session.values.model import Session

KEPT = 10
"""So much work that was set aside, and so many versions of a session, are kept."""


@dataclass(frozen=True, slots=True)
class Card:
    """A session that is kept: its name, the file it belongs to (None for none yet), when, and the card's own file."""

    name: str
    path: Path | None
    kept_at: float
    file: Path

    def session(self) -> Session:
        """The session itself; SessionFileError where the card is damaged."""
        result = load_object(self.file)
        try:
            return session_from_object(result["session"], Path("/"))
        except (ValueError, KeyError, TypeError) as reason:
            raise SessionFileError(f"{self.file}: {reason}") from None


def unsaved_folder() -> Path:
    return folder(Base.STATE, "unsaved")


def _set_aside_folder() -> Path:
    return folder(Base.STATE, "set-aside")


def _versions_folder(path: Path) -> Path:
    name = hashlib.sha256(os.fsencode(os.path.realpath(path))).hexdigest()[:24]
    return folder(Base.STATE, "versions", name)


def _write_card(session: Session, path: Path | None, file: Path) -> None:
    """OSError where the disk does not allow it."""
    write_text(file, json.dumps({"name": session.name, "path": None if path is None else str(path),
                                 "session": session_to_object(session, None)}))


def _read_cards(index: Path) -> list[Card]:
    """The cards of a folder, newest first.  Damaged ones are passed over."""
    result = []
    for file in index.glob("*.json"):
        try:
            card = load_object(file)
            path = None if card["path"] is None else Path(card["path"])
            result.append(Card(str(card["name"]), path, file.stat().st_mtime, file))
        except (SessionFileError, OSError, KeyError, TypeError):
            continue
    return sorted(result, key=lambda card: card.kept_at, reverse=True)


def _keep_newest(index: Path) -> None:
    """Forget all cards of a folder but the newest."""
    files = sorted(index.glob("*.json"), key=lambda file: file.stat().st_mtime, reverse=True)
    for file in files[KEPT:]:
        file.unlink(missing_ok=True)


class Autosave:
    """Keeps this process's unsaved session."""

    def __init__(self) -> None:
        self._tag = own_tag()

    @property
    def file(self) -> Path:
        return unsaved_folder() / f"{self._tag}.json"

    def keep(self, session: Session, path: Path | None) -> None:
        """Write the session down; OSError where the disk does not allow it."""
        _write_card(session, path, self.file)

    def take(self, card: Card) -> None:
        """Make what a crash left this process's own, so that it is on disk at every moment."""
        os.replace(card.file, self.file)

    def forget(self) -> None:
        """Nothing is unsaved any more."""
        with contextlib.suppress(OSError):
            self.file.unlink(missing_ok=True)


def leftovers() -> list[Card]:
    """What windows that are gone left behind, newest first."""
    try:
        return [card for card in _read_cards(unsaved_folder()) if not is_running(card.file.stem)]
    except OSError:
        return []


def set_aside(card: Card) -> None:
    """Keep work that was not taken up, the last of it; nothing is deleted."""
    directory = _set_aside_folder()
    os.replace(card.file, free_name(directory / f"{time.strftime('%Y-%m-%d %H.%M.%S')}.json"))
    _keep_newest(directory)


def work_set_aside() -> list[Card]:
    """Work that was not taken up, newest first."""
    try:
        return _read_cards(_set_aside_folder())
    except OSError:
        return []


def keep_version(session: Session, path: Path) -> None:
    """Keep what was saved to a file, beside its last versions.  OSError where the disk does not allow it."""
    directory = _versions_folder(path)
    _write_card(session, path, free_name(directory / f"{time.strftime('%Y-%m-%d %H.%M.%S')}.json"))
    _keep_newest(directory)


def versions(path: Path) -> list[Card]:
    """The last saved versions of a session's file, newest first."""
    try:
        return _read_cards(_versions_folder(path))
    except OSError:
        return []
