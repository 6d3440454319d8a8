"""Many strips matched in one go: each as if it were measured by itself, with those before it matched."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from yellow_ember.engine.jobs import matching
from yellow_ember.engine.jobs.job import Job, JobError, shared_out, side_by_side
from yellow_ember.engine.jobs.matching import Match, match_strips, matched
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.session.edits.edits import add_bus, add_stage, edit_strip, set_parameter
from yellow_ember.session.values.model import MASTER, Loop, Send, Session, new_stage
from yellow_ember.session.values.regions import Region

TRACKS = ("brushed-drums", "upright-bass", "harmonium", "plucked-guitar")


def quiet(_share: float) -> None:
    return


@pytest.fixture
def driven(demo: Session) -> Session:
    """Drives of all strengths on tracks, stages that widen, a send before the fader, tapes on the buses."""
    session = demo
    for index, strip_id in enumerate(TRACKS):
        stage = new_stage("drive")
        session = set_parameter(add_stage(session, strip_id, stage), strip_id, stage.id, "drive_db", 9.0 * index)
    session = add_stage(session, "harmonium", new_stage("room"))
    session = edit_strip(session, "plucked-guitar", lambda strip: strip.with_(
        mute=True, sends=(Send(to="voice", level_db=-6.0, pre=True),)))
    for strip_id in ("rhythm", "band", MASTER):
        session = add_stage(session, strip_id, new_stage("tape"))
    return session.with_(loop=Loop(480000, 600000, True))


def one_by_one(session: Session, strip_ids: tuple[str, ...]) -> Session:
    for strip in session.processing_order():
        if strip.id in strip_ids:
            session = matched(session, Match(strip.id, measure_strip(quiet, session, strip.id).offset_db))
    return session


def all_at_once(session: Session, strip_ids: tuple[str, ...]) -> Session:
    for match in match_strips(quiet, session, strip_ids):
        assert not match.trouble
        session = matched(session, match)
    return session


def offsets(session: Session) -> list[float]:
    return [strip.match_db for strip in session.strips]


@pytest.mark.parametrize("strip_ids", [
    (*TRACKS, "rhythm", "band", MASTER), ("band", MASTER), ("rhythm", "upright-bass")])
def test_all_at_once_is_the_same_as_one_by_one(strip_ids: tuple[str, ...], driven: Session) -> None:
    expected = offsets(one_by_one(driven, strip_ids))
    assert offsets(all_at_once(driven, strip_ids)) == pytest.approx(expected, abs=0.03)
    assert expected != offsets(driven)


@pytest.mark.parametrize("bytes_kept", [0, 1_500_000])
def test_where_there_is_no_room_for_takes_chains_run_again(bytes_kept: int, driven: Session,
                                                           monkeypatch: pytest.MonkeyPatch) -> None:
    strip_ids = (*TRACKS, "rhythm", MASTER)
    expected = offsets(all_at_once(driven, strip_ids))
    monkeypatch.setattr(matching, "TAKES_BYTES", bytes_kept)
    assert offsets(all_at_once(driven, strip_ids)) == pytest.approx(expected, abs=0.01)


def test_without_a_loop_each_counts_as_long_as_its_own_sound(driven: Session, tmp_path: Path) -> None:
    short = tmp_path / "short.wav"
    soundfile.write(short, 0.3 * np.sin(np.arange(30000) / 20.0) * np.linspace(1.0, 0.01, 30000), 48000)
    session = edit_strip(driven.with_(loop=Loop(0, 0, False)), "upright-bass",
                         lambda strip: strip.with_(regions=(Region(audio=short),)))
    strip_ids = ("upright-bass", "brushed-drums")
    assert offsets(all_at_once(session, strip_ids)) == pytest.approx(
        offsets(one_by_one(session, strip_ids)), abs=0.03)


def test_what_can_t_be_matched_says_why_and_stops_no_other(driven: Session, tmp_path: Path) -> None:
    bad = tmp_path / "no sound.wav"
    bad.write_text("this is text")
    session = edit_strip(driven, "upright-bass", lambda strip: strip.with_(regions=(Region(audio=bad),)))
    session = edit_strip(session, "harmonium", lambda strip: strip.with_(regions=()))
    matches = {match.strip_id: match for match in match_strips(quiet, session, TRACKS)}
    assert "no sound.wav" in matches["upright-bass"].trouble
    assert "silent" in matches["harmonium"].trouble
    assert abs(matches["plucked-guitar"].offset_db) > 3.0
    assert not matches["brushed-drums"].trouble


def test_a_job_gives_its_matches_as_they_are_found(driven: Session) -> None:
    job: Job[Any] = Job(match_strips, driven, (*TRACKS, MASTER))
    rounds = []
    while not job.done:
        job.wait(1.0)
        rounds.append([match.strip_id for match in job.take_parts()])
    job.result()
    names = [name for names in rounds for name in names]
    assert sorted(names) == sorted((*TRACKS, MASTER))
    assert names[-1] == MASTER


def test_work_side_by_side_gives_all_results_and_tells_failures() -> None:
    assert side_by_side([lambda: 1, lambda: 2, lambda: 3]) == [1, 2, 3]

    def fail() -> int:
        raise ValueError("wrong")

    with pytest.raises(JobError):
        side_by_side([lambda: 1, fail])


@pytest.mark.parametrize("workers", [1, 2, 3, 40])
def test_work_is_shared_out_to_whoever_is_free_and_comes_in_its_order(workers: int) -> None:
    """What takes long keeps one at it, while the others do the rest."""
    def slowly(number: int, factor: int) -> tuple[int, int]:
        time.sleep(0.5 if number == 0 else 0.0)
        return factor * number, os.getpid()

    done = shared_out(slowly, [(number, 10) for number in range(30)], workers)
    assert [number for number, _ in done] == [10 * number for number in range(30)]
    if workers > 1:
        assert [pid for _, pid in done].count(done[0][1]) == 1
        assert len({pid for _, pid in done}) <= workers
    assert shared_out(slowly, [], workers) == []


def test_shared_work_tells_its_failures() -> None:
    def fails(number: int) -> int:
        return 1 // number

    with pytest.raises((JobError, ZeroDivisionError)):
        shared_out(fails, [(number,) for number in (1, 1, 0, 1)], 2)


def test_buses_of_buses_come_in_order(driven: Session) -> None:
    session = add_bus(driven, "Sum")
    bus = next(strip.id for strip in session.strips if strip.id not in {old.id for old in driven.strips})
    session = edit_strip(session, "rhythm", lambda strip: strip.with_(out=bus))
    session = add_stage(session, bus, new_stage("drive"))
    strip_ids = (bus, "brushed-drums", "rhythm")
    result = [match.strip_id for match in match_strips(quiet, session, strip_ids)]
    assert result == ["brushed-drums", "rhythm", bus]
