"""The session as a value, its history, its files."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from yellow_ember.dsp.stages import stage_kind
from yellow_ember.session.document import Document
from yellow_ember.session.edits.edits import (
    add_bus,
    add_stage,
    add_track,
    drive_stage,
    edit_macros,
    edit_strip,
    move_stage,
    remove_stage,
    remove_strip,
    route,
    set_parameter,
    use_chain,
)
from yellow_ember.session.io.alignments import alignments_file, drop_alignment, keep_alignment, read_alignments
from yellow_ember.session.io.autosave import Autosave, leftovers, unsaved_folder
from yellow_ember.session.io.chain_file import read_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import (
    Preset,
    change_preset,
    delete_preset,
    find_preset,
    import_preset,
    keep_preset,
    own_folder,
    own_presets,
    shipped_presets,
    write_preset,
)
from yellow_ember.session.io.session_file import (
    missing_audio,
    read_session,
    relocate,
    session_to_object,
    write_session,
)
from yellow_ember.session.values.model import (
    MASTER,
    Loop,
    Quality,
    Session,
    master_strip,
    new_stage,
    session_from_audio,
)
from yellow_ember.session.values.purposes import INTENTIONS, SOURCES
from yellow_ember.shipped import DEMO

DOCS = Path(__file__).parents[1] / "docs"


@pytest.fixture
def session() -> Session:
    made = session_from_audio([Path("/nowhere/bass.wav"), Path("/nowhere/voice.wav")], 48000)
    return add_bus(made, "Band")


def ids(session: Session) -> dict[str, str]:
    return {strip.name: strip.id for strip in session.strips}


def test_routing_and_order(session: Session) -> None:
    names = ids(session)
    session = route(session, names["bass"], names["Band"])
    order = [strip.name for strip in session.processing_order()]
    assert order.index("bass") < order.index("Band") < order.index("Master")
    assert [(strip.name, depth) for strip, depth in session.depth_first()] == [
        ("voice", 0), ("Band", 0), ("bass", 1), ("Master", 0)]
    assert session.upstream(names["Band"]) == {names["Band"], names["bass"]}
    session = add_bus(session, "Outer")
    session = route(session, names["Band"], ids(session)["Outer"])
    with pytest.raises(ValueError, match="go round in a circle"):
        route(session, ids(session)["Outer"], names["Band"])
    with pytest.raises(ValueError, match="can't be fed"):
        route(session, names["voice"], names["bass"])


def test_removing_a_bus_hands_its_tracks_on(session: Session) -> None:
    names = ids(session)
    session = remove_strip(route(session, names["bass"], names["Band"]), names["Band"])
    assert session.strip(names["bass"]).out == MASTER
    with pytest.raises(ValueError, match="master can't be removed"):
        remove_strip(session, MASTER)


def test_solo_and_mute(session: Session) -> None:
    names = ids(session)
    session = route(session, names["bass"], names["Band"])
    way = {(names["bass"], names["Band"]), (names["Band"], MASTER), (MASTER, "")}
    for soloed in ("bass", "Band"):
        assert edit_strip(session, names[soloed], lambda strip: strip.with_(solo=True)).passing() >= way
        assert (names["voice"], MASTER) not in edit_strip(
            session, names[soloed], lambda strip: strip.with_(solo=True)).passing()
    muted = edit_strip(session, names["voice"], lambda strip: strip.with_(mute=True))
    assert (names["voice"], MASTER) not in muted.passing()


def test_chain_edits(session: Session) -> None:
    strip = session.strips[0].id
    for kind in ("tape", "drive", "trim"):
        session = add_stage(session, strip, new_stage(kind))
    tape = session.strip(strip).chain[0]
    session = move_stage(session, strip, tape.id, 2)
    assert [stage.kind for stage in session.strip(strip).chain] == ["drive", "trim", "tape"]
    session = remove_stage(session, strip, session.strip(strip).chain[1].id)
    assert [stage.kind for stage in session.strip(strip).chain] == ["drive", "tape"]
    with pytest.raises(ValueError, match="must lie between"):
        set_parameter(session, strip, tape.id, "record_db", 100.0)


def test_driving_takes_the_level_back(session: Session) -> None:
    strip = session.strips[0].id
    stage = new_stage("drive")
    driven = drive_stage(add_stage(session, strip, stage), strip, stage.id, 6.0).strip(strip).chain[0]
    assert driven.params["drive_db"] == 18.0
    assert driven.params["out_db"] == -12.0
    tape = new_stage("tape")
    driven = drive_stage(add_stage(session, strip, tape), strip, tape.id, 6.0).strip(strip).chain[0]
    assert driven.params["record_db"] == 6.0
    assert driven.params["play_db"] == 0.0, "the link takes it back by itself"


def test_history(session: Session) -> None:
    document = Document(session)
    seen: list[Session] = []
    stop = document.listen(seen.append)
    drag = document.trial("Tempo")
    for tempo in (90.0, 91.0, 92.0):
        drag.show(lambda session: session.with_(tempo=tempo))
    drag.keep()
    document.commit("Nothing", lambda session: session)
    document.commit("Name", lambda _: document.session.with_(name="Ferry"))
    assert document.undo_label == "Name"
    assert document.undo() == "Name"
    assert document.undo() == "Tempo"
    assert document.session == session
    assert document.undo() is None
    assert document.redo() == "Tempo"
    assert document.session.tempo == 92.0
    assert document.modified
    stop()
    count = len(seen)
    document.commit("Later", lambda _: document.session.with_(tempo=60.0))
    assert len(seen) == count
    assert document.redo_label is None


def test_an_adjustment_in_the_middle_of_a_drag_keeps_the_drag_a_step(session: Session) -> None:
    document = Document(session)
    drag = document.trial("Tempo")
    drag.show(lambda session: session.with_(tempo=77.0))
    document.adjust(lambda value: edit_strip(value, MASTER, lambda strip: strip.with_(match_db=-1.5)))
    drag.keep()
    assert document.undo() == "Tempo"
    assert document.session.tempo == session.tempo
    assert document.session.master.match_db == -1.5


def test_undo_goes_back_a_thousand_steps(session: Session) -> None:
    document = Document(session)
    for step in range(1000):
        document.commit("Tempo", lambda _: document.session.with_(tempo=100.0 + step / 10))
    while document.undo():
        pass
    assert document.session == session


# -- files ----------------------------------------------------------------------------------


def test_saved_sessions_come_back(session: Session, tmp_path: Path) -> None:
    strip = session.strips[0].id
    session = add_stage(session, strip, new_stage("tape")).with_(
        loop=Loop(100, 2000), quality=Quality(live=2, printing=16), tempo=71.5)
    session = edit_strip(session, strip, lambda old: old.with_(pan=-30.0, volume_db=-3.0, match_db=0.7))
    path = tmp_path / "a.ember"
    write_session(session, path)
    assert read_session(path) == session
    audio = json.loads(path.read_text())["strips"][0]["regions"][0]["audio"]
    assert not Path(audio).is_absolute()


@pytest.mark.parametrize("name", ["session", "chain", "preset"])
def test_published_schemas_agree_with_the_program(name: str, tmp_path: Path, session: Session) -> None:
    schema = json.loads((DOCS / "schema" / f"{name}.schema.json").read_text())
    jsonschema.Draft202012Validator.check_schema(schema)
    if name == "session":
        jsonschema.validate(session_to_object(
            add_stage(session, MASTER, new_stage("drive")), tmp_path), schema)
        jsonschema.validate(json.loads(DEMO.read_text()), schema)
    elif name == "preset":
        for file in (DEMO.parents[1] / "presets").glob("*.json"):
            jsonschema.validate(json.loads(file.read_text()), schema)
    else:
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate({"format": "yellow-ember/chain", "version": 1,
                                 "stages": [{"kind": "tape", "params": {"record_db": 99}}]}, schema)


def broken(change: dict[str, Any], **strip: Any) -> dict[str, Any]:
    result = session_to_object(Session(strips=(master_strip(),)), Path("/"))
    result["strips"][0] |= strip
    return result | change


@pytest.mark.parametrize(("result", "words"), [
    (broken({"version": 9}), "version: 9 was written by a newer Yellow Ember"),
    (broken({"format": "other"}), "format: must be 'yellow-ember/session'"),
    (broken({"rate": "48k"}), "rate: must be a whole number, not \"48k\""),
    (broken({"tempo": None}), "tempo: must be a number, not nothing"),
    (broken({"tempo": 1e9}), "tempo: must lie between 20 and 400"),
    (broken({"strips": {}}), "strips: must be a list"),
    (broken({"colour": 1}), "colour: means nothing here"),
    (broken({"quality": {"live": 3}}), "quality.live: must be one of 1, 2, 4, 8, 16, not 3"),
    (broken({}, mute="no"), r"strips\[0\].mute: must be true or false"),
    (broken({}, chain=[{"kind": "reverb"}]), r"strips\[0\].chain\[0\].kind: no stage is called 'reverb'"),
    (broken({}, chain=[{"kind": "tape", "params": {"speed_ips": 12}}]),
     r"strips\[0\].chain\[0\].params.speed_ips: must be one of 1.875, 3.75, 7.5, 15, 30, not 12"),
    (broken({}, id="boss"), "there must be one master"),
])
def test_broken_sessions_are_refused_with_place_and_reason(result: dict[str, Any], words: str, tmp_path: Path) -> None:
    path = tmp_path / "broken.ember"
    path.write_text(json.dumps(result))
    with pytest.raises(SessionFileError, match=words) as error:
        read_session(path)
    assert "broken.ember" in str(error.value)


@pytest.mark.parametrize(("text", "words"), [("", "is empty"), ("{\"format\":", "is not whole JSON"), ("[]", "object")])
def test_truncated_session_files(text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "cut.ember"
    path.write_text(text)
    with pytest.raises(SessionFileError, match=words):
        read_session(path)


def test_chain_files(tmp_path: Path) -> None:
    path = tmp_path / "chain.json"
    path.write_text(json.dumps({"format": "yellow-ember/chain", "version": 1, "stages": [
        {"kind": "tape", "on": True, "dry_db": None, "wet_db": 0.0, "params": {"speed_ips": 15, "record_db": 6.0}}]}))
    (stage,) = read_chain(path)
    assert (stage.params["record_db"], stage.params["speed_ips"], stage.params["bias_db"]) == (6.0, 15.0, 0.0)
    path.write_text(path.read_text().replace("6.0", "\"loud\""))
    with pytest.raises(SessionFileError, match=r"chain.json: stages\[0\].params.record_db: must be a number, not text"):
        read_chain(path)


def test_missing_audio_is_found_again(tmp_path: Path, session: Session) -> None:
    assert [strip.name for strip in missing_audio(session)] == ["bass", "voice"]
    deep = tmp_path / "moved" / "deeper"
    deep.mkdir(parents=True)
    (deep / "bass.wav").touch()
    result = relocate(session, tmp_path)
    assert [strip.name for strip in missing_audio(result)] == ["voice"]
    assert result.strips[0].files == (deep / "bass.wav",)
    assert add_track(result, Path("/x/drum.wav")).strips[2].name == "drum"


def test_saving_into_a_folder_that_is_not_there(session: Session, tmp_path: Path) -> None:
    with pytest.raises(SessionFileError, match="can't be written"):
        write_session(session, tmp_path / "no" / "a.ember")


def test_a_full_disk_keeps_the_old_file(session: Session, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "a.ember"
    write_session(session, path)
    before = path.read_text()

    def full(handle: int) -> None:
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(SessionFileError, match=r"The disk is full: .*a\.ember can't be written"):
        write_session(session.with_(name="Other"), path)
    assert path.read_text() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.ember"]


def test_unsaved_work_is_found_after_a_crash(session: Session) -> None:
    for leftover in leftovers():
        leftover.file.unlink()
    session_file = Path("/home/x/ferry.ember")
    code = ("import sys, os, signal; from pathlib import Path\n"
            "from yellow_ember.session.io.autosave import Autosave\n"
            "from yellow_ember.session.values.model import Session, master_strip\n"
            "Autosave().keep(Session(name='Lost', strips=(master_strip(),)), Path(sys.argv[1]))\n"
            "os.kill(os.getpid(), signal.SIGKILL)")
    subprocess.run([sys.executable, "-c", code, str(session_file)], check=False)
    (leftover,) = leftovers()
    assert (leftover.name, leftover.session().name, leftover.path) == ("Lost", "Lost", session_file)
    leftover.file.unlink()
    mine = Autosave()
    mine.keep(session, None)
    assert leftovers() == [], "a running window's own copy is no leftover"
    mine.forget()
    assert list(unsaved_folder().iterdir()) == []


def test_shipped_presets() -> None:
    presets = shipped_presets()
    on_tape = [preset for preset in presets if {stage.kind for stage in preset.stages} <= {"tape", "motion", "wear"}]
    assert len(on_tape) >= 40
    assert {preset.source for preset in on_tape} == set(SOURCES)
    assert {preset.intention for preset in on_tape} == set(INTENTIONS)
    driven = [preset for preset in presets
              if {stage.kind for stage in preset.stages} & {"drive", "bands", "bits", "amp", "cabinet", "eq", "comp",
                                                            "tame", "limit"}]
    assert len(driven) >= 60
    assert len(presets) >= 150
    assert all(preset.figures is not None for preset in presets), (
        "script/measure_presets.py measures them")
    assert {preset.source for preset in driven} == set(SOURCES)
    assert len({preset.name.lower() for preset in presets}) == len(presets)
    for preset in presets:
        assert preset.source in SOURCES
        assert preset.intention in INTENTIONS
        assert preset.note.endswith(".")
    assert find_preset("KEEL WEIGHT").name == "Keel weight"
    with pytest.raises(ValueError, match="no preset is called 'nope'"):
        find_preset("nope")


@pytest.mark.parametrize("preset", [preset for preset in shipped_presets() if preset.macros],
                         ids=lambda preset: preset.name)
def test_macros_of_presets_stand_where_their_stages_do(preset: Preset, demo: Session) -> None:
    used = use_chain(demo, "harmonium", preset.stages, preset.macros)
    moved = edit_macros(used, "harmonium", used.strip("harmonium").macros)
    assert moved == used


def test_own_presets_are_kept_renamed_exported_and_dropped(tmp_path: Path) -> None:
    kept = keep_preset(Preset("My reel", "bus", "glue", "Mine.", find_preset("Moored together").stages))
    assert find_preset("my reel").path == kept.path
    assert keep_preset(kept).name == "My reel 2"
    renamed = change_preset(kept, replace(kept, name="My other reel"))
    with pytest.raises(ValueError, match="another preset is called Keel weight"):
        change_preset(renamed, replace(renamed, name="Keel weight"))
    with pytest.raises(ValueError, match="Keel weight comes with the program and stays"):
        delete_preset(find_preset("Keel weight"))
    write_preset(renamed, tmp_path / "mine.json")
    delete_preset(renamed)
    taken = import_preset(tmp_path / "mine.json")
    assert taken.name == "My other reel"
    assert [stage.params for stage in taken.stages] == [stage.params for stage in kept.stages]
    (own_folder() / "broken.json").write_text("{}")
    presets, troubles = own_presets()
    assert {preset.name for preset in presets} == {"My other reel", "My reel 2"}
    assert "broken.json: format: must be" in troubles[0]
    with pytest.raises(SessionFileError, match="is not there"):
        import_preset(tmp_path / "none.json")
    for path in own_folder().glob("*.json"):
        path.unlink()


def test_alignments_are_kept_by_name() -> None:
    values = stage_kind("tape").complete({"bias_db": (-0.5, 0.25), "azimuth_arcmin": 1.5})
    keep_alignment("Old deck", values)
    keep_alignment("Another", stage_kind("tape").defaults())
    result = read_alignments()
    assert set(result) == {"Old deck", "Another"}
    assert result["Old deck"]["bias_db"] == (-0.5, 0.25)
    drop_alignment("Another")
    assert set(read_alignments()) == {"Old deck"}
    alignments_file().write_text('{"format": "yellow-ember/alignments", "version": 1, '
                                 '"alignments": {"x": {"bias_db": 99}}}')
    with pytest.raises(SessionFileError, match=r"alignments\.x\.bias_db: must lie between -6 and 6 dB"):
        read_alignments()
    alignments_file().unlink()
