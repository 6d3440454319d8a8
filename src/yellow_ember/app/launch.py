"""The way to the window, which has as much loaded side by side as there is."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.app.single import Answer, hand_over
from yellow_ember.engine.forking import start_server
from yellow_ember.files.atomic import parts_swept
from yellow_ember.folders import ensure_runtime_dir


def launch(paths: list[Path], *, apart: bool = False) -> int:
    """Open the window with a session, audio files, or nothing; the exit status.

    A window that is open already takes them over, unless this one is to stand `apart`.
    """
    ensure_runtime_dir()
    answer = Answer.NOBODY if apart else hand_over(paths)
    if answer is Answer.TAKEN:
        return 0
    # The kernels load in the server while the window's modules do here.
    start_server()
    from yellow_ember.app.start import run

    with parts_swept():
        return run(paths, answer, apart=apart)
