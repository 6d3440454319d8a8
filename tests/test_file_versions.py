"""Files of every version that was ever written open, and hold what they held; what is wrong in any is named."""

from __future__ import annotations

import json
import re
from copy import deepcopy
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yellow_ember.session.io.chain_file import CHAIN_FORMAT, read_chain
from yellow_ember.session.io.file_format import FileFormat, SessionFileError
from yellow_ember.session.io.presets import PRESET_FORMAT, read_preset, write_preset
from yellow_ember.session.io.session_file import SESSION_FORMAT, read_session, session_to_object, write_session
from yellow_ember.session.io.sets import SET_FORMAT, SHIPPED_SETS
from yellow_ember.session.values.macros import Target
from yellow_ember.session.values.model import Send, Session

OLD = Path(__file__).parent / "files" / "versions"
FORMATS: dict[str, FileFormat[Any]] = {
    "chain": CHAIN_FORMAT, "preset": PRESET_FORMAT, "session": SESSION_FORMAT, "set": SET_FORMAT}


@pytest.mark.parametrize("name", FORMATS)
def test_every_older_version_has_a_file(name: str) -> None:
    written = {int(re.findall(r"\d+", file.stem)[0]) for file in OLD.glob(f"{name}-*")}
    assert set(range(1, FORMATS[name].version)) <= written
    assert set(FORMATS[name].migrations) == set(range(1, FORMATS[name].version))


def old_session(version: int) -> Session:
    path = OLD / f"session-{version}.ember"
    assert json.loads(path.read_text())["version"] == version
    return read_session(path)


@pytest.mark.parametrize("version", range(1, 8))
def test_sessions_of_every_version_hold_what_they_held(version: int) -> None:
    session = old_session(version)
    assert (session.name, session.tempo, session.seed) == ("The crossing", 96.0, 7)
    track = session.strip("pump")
    assert (track.volume_db, track.pan, track.mute, track.match_db, track.out) == (-3.0, -20.0, True, -1.25, "deck")
    assert track.files == (OLD / "pump.wav",)
    tape, drive, *others = track.chain
    assert (tape.params["record_db"], tape.params["bias_db"], drive.params["drive_db"]) == (6.0, (0.5, -0.25), 12.0)
    assert (tape.mix_pct, tape.mono, tape.wet_db, tape.dry_db) == (100.0, False, 0.0, None)
    if version == 1:
        assert (others, track.macros) == ([], ())
    else:
        assert others[0].params["near_far"] == 35.0
        assert track.macros[0].targets == (Target("drive-1", "drive_db", 3.0, 24.0),
                                           Target("cabinet-1", "near_far", 10.0, 60.0))
    sends = (Send(to="master", level_db=-9.0, pre=True),)
    assert (track.sends, track.bypass) == ((sends, True) if version >= 3 else ((), False))
    assert len(session.links) == (version >= 3)
    assert len(session.snapshots) == (version >= 4)
    assert session.shown == ("pump" if version >= 5 else "")


@pytest.mark.parametrize("version", range(1, 8))
def test_an_older_session_is_saved_as_one_of_today(version: int, tmp_path: Path) -> None:
    session = old_session(version)
    write_session(session, tmp_path / "new.ember")
    result = json.loads((tmp_path / "new.ember").read_text())
    assert result["version"] == SESSION_FORMAT.version
    jsonschema.validate(result, SESSION_FORMAT.schema("Session"))
    assert read_session(tmp_path / "new.ember") == session


@pytest.mark.parametrize("version", [1, 2, 3])
def test_presets_of_every_version(version: int, tmp_path: Path) -> None:
    preset = read_preset(OLD / f"preset-{version}.json")
    if version > 1:
        assert (preset.name, preset.stages[-1].params["near_far"]) == ("Old winch", 35.0)
        assert preset.macros[0].targets[1].parameter == "near_far"
    assert preset.match_db == (-2.5 if version == 3 else 0.0)
    write_preset(preset, tmp_path / "new.json")
    result = json.loads((tmp_path / "new.json").read_text())
    jsonschema.validate(result, PRESET_FORMAT.schema("Preset"))
    assert "id" not in result["stages"][0]
    again = read_preset(tmp_path / "new.json")
    assert [stage.params for stage in again.stages] == [stage.params for stage in preset.stages]


def test_chains_of_the_first_version() -> None:
    assert read_chain(OLD / "chain-1.json")[-1].params["near_far"] == 35.0


def positions(result: Any, path: tuple[str | int, ...] = ()) -> list[tuple[str | int, ...]]:
    """The path of every value in a JSON object, `format` and `version` left aside."""
    here = [path] if path else []
    if isinstance(result, dict):
        return here + [one for key, value in result.items() if path or key not in ("format", "version")
                       for one in positions(value, (*path, key))]
    if isinstance(result, list):
        return here + [one for index, value in enumerate(result) for one in positions(value, (*path, index))]
    return here


def shown(path: tuple[str | int, ...]) -> str:
    """A path as a message writes it."""
    return "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in path).lstrip(".")


def reason_of(kind: FileFormat[Any], result: dict[str, Any]) -> str | None:
    """Why a file is refused, None where it isn't."""
    try:
        kind.parse(result, OLD)
    except ValueError as reason:
        return str(reason)
    return None


NEWEST = [session_to_object(old_session(6), OLD),
          *(json.loads(path.read_text()) for path in (OLD / "preset-3.json", next(SHIPPED_SETS.glob("*.json"))))]


@settings(max_examples=120, deadline=None)
@given(data=st.data(), newest=st.sampled_from(NEWEST), wrong=st.sampled_from([{"x": 1}, [[]], True, "\u263a", -1e12]))
def test_a_wrong_value_anywhere_is_named_with_its_position(data: st.DataObject, newest: Any, wrong: object) -> None:
    result = deepcopy(newest)
    name = result["format"].removeprefix("yellow-ember/")
    path = data.draw(st.sampled_from(positions(result)))
    holder = result
    for step in path[:-1]:
        holder = holder[step]
    holder[path[-1]] = wrong
    reason = reason_of(FORMATS[name], result)
    if reason is not None:
        # A parameter's value is one, though it may be a pair or a row.
        above = [shown(path[:length]) + ": " for length in range(3, len(path)) if path[length - 2] == "params"]
        assert reason.startswith((*(shown(path) + end for end in ":.["), *above)), reason


@given(data=st.data(), newest=st.sampled_from(NEWEST))
def test_an_unknown_key_anywhere_is_named_with_its_position(data: st.DataObject, newest: Any) -> None:
    result = deepcopy(newest)
    name = result["format"].removeprefix("yellow-ember/")
    objects = [path for path in positions(result) if isinstance(value_at(result, path), dict)] + [()]
    path = data.draw(st.sampled_from(objects))
    value_at(result, path)["colour_of_the_sea"] = 1
    expected = re.escape(shown((*path, "colour_of_the_sea"))) + ": (means nothing here|.* has no such parameter)"
    with pytest.raises(ValueError, match=expected):
        FORMATS[name].parse(result, OLD)


def value_at(result: Any, path: tuple[str | int, ...]) -> Any:
    for step in path:
        result = result[step]
    return result


@pytest.mark.parametrize("key", ["kind", "id", "name"])
def test_a_key_that_is_missing_is_named(key: str, tmp_path: Path) -> None:
    result = session_to_object(read_session(OLD / "session-5.ember"), tmp_path)
    del result["strips"][0][key]
    (tmp_path / "a.ember").write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match=rf"a\.ember: strips\[0\]\.{key}: is missing"):
        read_session(tmp_path / "a.ember")
    result = session_to_object(read_session(OLD / "session-5.ember"), tmp_path)
    del result["strips"][0]["chain"][0]["kind"]
    with pytest.raises(ValueError, match=r"strips\[0\]\.chain\[0\]\.kind: is missing"):
        SESSION_FORMAT.parse(result, tmp_path)
