"""Edits that no file holds yet, kept where a crash does not reach them.

One file per running window, named by its process, in the XDG state folder.  A file whose
process is gone is what a crash left behind.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from yellow_ember.files.atomic import write_text
from yellow_ember.session.model import Session
from yellow_ember.session.session_file import session_from_json, session_to_json


def state_folder() -> Path:
    folder = Path(platformdirs.user_state_dir("yellow-ember")) / "unsaved"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


@dataclass(frozen=True, slots=True)
class Leftover:
    """What a crash left: the session, the file it belonged to (or None), and where it is kept."""

    session: Session
    path: Path | None
    kept: Path


class Autosave:
    """Keeps this process's unsaved session."""

    def __init__(self) -> None:
        self._file = state_folder() / f"{os.getpid()}-{_start_of(os.getpid())}.json"

    def keep(self, session: Session, path: Path | None) -> None:
        """Write the session down; OSError where the disk does not allow it."""
        card = {"path": None if path is None else str(path), "session": json.loads(session_to_json(session, None))}
        write_text(self._file, json.dumps(card))

    def forget(self) -> None:
        """Nothing is unsaved any more."""
        self._file.unlink(missing_ok=True)


def leftovers() -> list[Leftover]:
    """What windows that are gone left behind, newest first.  Unreadable remains are passed over."""
    found = []
    for file in sorted(state_folder().glob("*.json"), key=lambda path: path.stat().st_mtime, reverse=True):
        pid, _, start = file.stem.partition("-")
        if pid.isdigit() and _start_of(int(pid)) == start:
            continue
        try:
            card = json.loads(file.read_text(encoding="utf-8"))
            session = session_from_json(card["session"], Path("/"))
            path = None if card["path"] is None else Path(card["path"])
        except (OSError, ValueError, KeyError, TypeError):
            continue
        found.append(Leftover(session, path, file))
    return found


def _start_of(pid: int) -> str:
    """When a process started, so that a reused number is not taken for it; empty where it is gone."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8")
    except OSError:
        return ""
    return stat.rpartition(")")[2].split()[19]
