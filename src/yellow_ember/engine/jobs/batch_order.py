"""What is to be done with many files, and what became of each."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.file_processing import FileOrder

DONE, SKIPPED, FAILED = "done", "skipped", "failed"


@dataclass(frozen=True, slots=True)
class BatchOrder:
    """What to do with all files.

    Attributes
    ----------
    names : str
        Pattern of the results' names without ending, with {name}, {folder}, {preset} and {number}.
    resume : bool
        Leave out files whose result is there already.
    jobs : int
        How many at a time.
    cluster : str
        Address of a Dask scheduler, whose workers do it; "" for this machine.
    sends : bool
        Files are sent to the cluster and back, where its machines don't reach their folders.
    """

    out: Path
    stages: tuple[StageSettings, ...]
    preset: str = ""
    names: str = "{name}"
    suffix: str = ".wav"
    file: FileOrder = field(default_factory=FileOrder)
    resume: bool = False
    jobs: int = 1
    cluster: str = ""
    sends: bool = False


@dataclass(frozen=True, slots=True)
class BatchEntry:
    """What became of one file; `state` is done, skipped or failed, `note` the reason or what else is to be said."""

    source: Path
    target: Path
    state: str
    note: str = ""
    match_db: float = 0.0
    clipped: int = 0
