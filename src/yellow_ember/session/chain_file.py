"""Chain files: stages in series, to be kept, passed on, and used from the command line."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.dsp.chain import StageSettings
from yellow_ember.session.reading import SessionFileError, check_format, items, load_object, only, read_stages

FORMAT, VERSION = "yellow-ember/chain", 1


def read_chain(path: Path) -> tuple[StageSettings, ...]:
    """The stages of a chain file; SessionFileError names the file, the place and the reason."""
    found = load_object(path)
    try:
        check_format(found, FORMAT, VERSION)
        only(found, ("format", "version", "stages"), "")
        return read_stages(items(found, "stages", ""), path.parent.resolve())
    except ValueError as reason:
        raise SessionFileError(f"{path}: {reason}") from None
