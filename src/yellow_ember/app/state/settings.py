"""What a user sets for the program rather than for a session; kept in the XDG config folder."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field, fields
from pathlib import Path

from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.files.atomic import write_text
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.folders import Base, folder

BLOCK_SIZES = (64, 128, 256, 512, 1024, 2048)
LOOKS = ("desktop", "dark", "light")
MOST_RECENT, MOST_HEARD = 8, 20


@dataclass
class Settings:
    """device, block in frames; animation moves pictures; scale in percent (at the next start).

    background_printing : strips that are not edited are printed into the cache, which takes at most prints_gb
    look : "desktop", "dark" or "light" (at the next start)
    notes : the user's own words on presets, by name
    impulses : folder in which the user looks for impulse responses
    favourites, heard : names of presets that the user marked, and kept last
    layout : what each splitter and the window remember, as text
    """

    device: str = SILENT_CARD
    block: int = 256
    animation: bool = True
    scale: int = 100
    match_lock: bool = True
    background_printing: bool = True
    prints_gb: float = 4.0
    look: str = "desktop"
    recent: tuple[str, ...] = ()
    impulses: str = ""
    favourites: tuple[str, ...] = ()
    heard: tuple[str, ...] = ()
    notes: dict[str, str] = field(default_factory=dict)
    layout: dict[str, str] | None = None

    def remember(self, path: Path) -> None:
        """Put a session first among the recent ones."""
        name = str(path.resolve())
        self.recent = (name, *(old for old in self.recent if old != name))[:MOST_RECENT]

    def keep_heard(self, name: str) -> None:
        """Put a preset first among those that were kept last."""
        self.heard = (name, *(old for old in self.heard if old != name))[:MOST_HEARD]

    def write_note(self, name: str, words: str) -> None:
        """The user's own words on a preset; none to take them away."""
        others = {other: note for other, note in self.notes.items() if other != name}
        self.notes = {**others, name: words} if words else others

    def mark(self, name: str, *, favourite: bool) -> None:
        """Make a preset a favourite, or not."""
        others = tuple(old for old in self.favourites if old != name)
        self.favourites = (*others, name) if favourite else others


def settings_file() -> Path:
    return folder(Base.CONFIG) / "settings.json"


def load_settings() -> Settings:
    """The kept settings; what is missing or odd has its default."""
    settings = Settings()
    try:
        found = read_object(settings_file())
    except (OSError, JsonFileError):
        return settings
    for entry in fields(Settings):
        value, default = found.get(entry.name), getattr(settings, entry.name)
        if isinstance(default, tuple) and isinstance(value, list):
            setattr(settings, entry.name, tuple(str(item) for item in value))
        elif entry.name in ("layout", "notes") and isinstance(value, dict):
            setattr(settings, entry.name, {str(name): str(state) for name, state in value.items()})
        elif type(value) is type(default):
            setattr(settings, entry.name, value)
    if settings.block not in BLOCK_SIZES:
        settings.block = Settings.block
    settings.look = settings.look if settings.look in LOOKS else "desktop"
    settings.prints_gb = min(max(settings.prints_gb, 0.5), 1000.0)
    settings.scale = min(max(settings.scale, 75), 300)
    return settings


def save_settings(settings: Settings) -> None:
    """Keep the settings; OSError where the folder does not allow it."""
    write_text(settings_file(), json.dumps(asdict(settings), indent=1))
