"""What a user sets for the program rather than for a session; kept in the XDG config folder."""

from __future__ import annotations

import json
from dataclasses import MISSING, dataclass, field, fields
from pathlib import Path
from typing import Any

from yellow_ember.app.state.time_view import FOLLOWS, SNAPS
from yellow_ember.engine.live.devices import SILENT_CARD
from yellow_ember.files.atomic import write_text
from yellow_ember.files.json_files import JsonFileError, read_object
from yellow_ember.folders import Base, folder

BLOCK_SIZES = (64, 128, 256, 512, 1024, 2048)
MAX_THREADS = 32
LOOKS = ("desktop", "dark", "light")
MAX_RECENT, MAX_HEARD = 8, 20


@dataclass
class Settings:
    """device, block in frames; threads that play, 0 for as many as suit the machine.

    feed : what the silent card hears: "" for nothing, OWN_OUTPUT, or the path of a file that goes round
    animation moves pictures; scale in percent (at the next start)

    background_printing : strips that are not edited are printed into the cache, which takes at most prints_gb
    look : "desktop", "dark" or "light" (at the next start)
    notes : the user's own words on presets, by name
    impulses : folder in which the user looks for impulse responses
    favourites, heard : names of presets that the user marked, and kept last
    snap, follow, all_waves : what places snap to, how the time line follows, and whether it shows all strips
    compact_desk : the desk's rows are low, so that many are in sight
    card_closed : the card of the first start was closed
    preset_filters : what the preset browser was last told, by filter; its source by the source that it proposed
    printing : what the print dialog was last told
    pre_roll, record_path : seconds that are played before recording begins; whether what leaves paths is written too
    controllers : what MIDI controllers move, by their messages
    synced : playing goes with a JACK server's transport
    round_trips : frames from what goes out to what comes in, as measured, by device
    keys : keys that the user gave to commands, by their names
    opened : groups of controls that are open on the bench, by kind of stage, with commas
    layout : what each splitter and the window remember, as text
    """

    device: str = SILENT_CARD
    block: int = 256
    threads: int = 0
    feed: str = ""
    animation: bool = True
    scale: int = 100
    match_lock: bool = True
    background_printing: bool = True
    prints_gb: float = 4.0
    look: str = "desktop"
    snap: str = "beat"
    follow: str = "page"
    all_waves: bool = False
    compact_desk: bool = False
    card_closed: bool = False
    recent: tuple[str, ...] = ()
    impulses: str = ""
    favourites: tuple[str, ...] = ()
    heard: tuple[str, ...] = ()
    notes: dict[str, str] = field(default_factory=dict)
    preset_filters: dict[str, str] = field(default_factory=dict)
    printing: dict[str, str] = field(default_factory=dict)
    pre_roll: float = 0.0
    record_path: bool = False
    synced: bool = False
    round_trips: dict[str, str] = field(default_factory=dict)
    controllers: dict[str, str] = field(default_factory=dict)
    keys: dict[str, str] = field(default_factory=dict)
    opened: dict[str, str] = field(default_factory=dict)
    layout: dict[str, str] = field(default_factory=dict)
    _kept: dict[str, Any] = field(default_factory=dict, init=False, repr=False, compare=False)
    """What the file held when it was read or written here, by name; the defaults before that."""

    def __post_init__(self) -> None:
        self._kept = {entry.name: entry.default if entry.default_factory is MISSING else entry.default_factory()
                      for entry in fields(self) if entry.init}

    def values(self) -> dict[str, Any]:
        """What is kept, by name."""
        return {entry.name: getattr(self, entry.name) for entry in fields(self) if entry.init}

    @property
    def changed(self) -> bool:
        """True where something was set here that the file does not hold."""
        return self._kept != self.values()

    def take_in(self, values: dict[str, Any]) -> None:
        """The file holds these values now; what another window has gathered in lists and notes is had here as well."""
        for name, value in values.items():
            if isinstance(value, tuple | dict) and name != "layout":
                setattr(self, name, value)
        self._kept = self.values()

    def merged_into(self, theirs: dict[str, Any]) -> dict[str, Any]:
        """What another window has kept meanwhile, with what was changed here."""
        return {name: _merge(self._kept[name], mine, theirs[name]) for name, mine in self.values().items()}

    def rename_preset(self, old: str, new: str) -> None:
        """A preset has another name: it stays a favourite, among those kept last, and with its note."""
        self.favourites = tuple(new if name == old else name for name in self.favourites)
        self.heard = tuple(new if name == old else name for name in self.heard)
        self.write_note(new, self.notes.get(old, ""))
        self.write_note(old, "")

    def remember(self, path: Path) -> None:
        """Put a session first among the recent ones."""
        name = str(path.resolve())
        self.recent = (name, *(old for old in self.recent if old != name))[:MAX_RECENT]

    def keep_heard(self, name: str) -> None:
        """Put a preset first among those that were kept last."""
        self.heard = (name, *(old for old in self.heard if old != name))[:MAX_HEARD]

    def write_note(self, name: str, words: str) -> None:
        """The user's own words on a preset; none to take them away."""
        others = {other: note for other, note in self.notes.items() if other != name}
        self.notes = {**others, name: words} if words else others

    def mark(self, name: str, *, favourite: bool) -> None:
        """Make a preset a favourite, or not."""
        others = tuple(old for old in self.favourites if old != name)
        self.favourites = (*others, name) if favourite else others


def _merge(kept: Any, mine: Any, theirs: Any) -> Any:
    """One value: as it was changed here, or there; of collections each entry by itself."""
    if mine == kept:
        return theirs
    if isinstance(mine, dict) and isinstance(theirs, dict):
        before = kept or {}
        changed = {name: mine.get(name) for name in {*mine, *before} if mine.get(name) != before.get(name)}
        return {name: value for name, value in {**theirs, **changed}.items() if value is not None}
    if isinstance(mine, tuple):
        here = tuple(entry for entry in mine if entry not in kept or entry in theirs)
        return (*here, *(entry for entry in theirs if entry not in mine and entry not in kept))
    return mine


def settings_file() -> Path:
    return folder(Base.CONFIG) / "settings.json"


def load_settings() -> Settings:
    """The kept settings; what is missing or odd has its default."""
    settings = Settings()
    try:
        result = read_object(settings_file())
    except (OSError, JsonFileError):
        return settings
    for entry in (entry for entry in fields(Settings) if entry.init):
        value, default = result.get(entry.name), getattr(settings, entry.name)
        if isinstance(default, tuple) and isinstance(value, list):
            setattr(settings, entry.name, tuple(str(item) for item in value))
        elif isinstance(value, dict) and isinstance(default, dict):
            setattr(settings, entry.name, {str(name): str(state) for name, state in value.items()})
        elif type(value) is type(default):
            setattr(settings, entry.name, value)
    if settings.block not in BLOCK_SIZES:
        settings.block = Settings.block
    settings.threads = min(max(settings.threads, 0), MAX_THREADS)
    settings.look = settings.look if settings.look in LOOKS else "desktop"
    settings.snap = settings.snap if settings.snap in SNAPS else "beat"
    settings.follow = settings.follow if settings.follow in FOLLOWS else "page"
    settings.prints_gb = min(max(settings.prints_gb, 0.5), 1000.0)
    settings.scale = min(max(settings.scale, 75), 300)
    settings.take_in(settings.values())
    return settings


def save_settings(settings: Settings) -> None:
    """Keep what was changed here; what another window has kept meanwhile stays.

    OSError where the folder does not allow it.
    """
    merged = settings.merged_into(load_settings().values())
    merged["recent"], merged["heard"] = merged["recent"][:MAX_RECENT], merged["heard"][:MAX_HEARD]
    write_text(settings_file(), json.dumps(merged, indent=1))
    settings.take_in(merged)
