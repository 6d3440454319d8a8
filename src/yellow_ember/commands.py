"""What the commands do."""

from __future__ import annotations

import argparse
import contextlib
import json
import math
import signal
import sys
import threading
from collections.abc import Callable
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from yellow_ember.dsp.parameters import Edges, Number, Option, Parameter, Steps
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.files.atomic import cannot_write, parts_swept, write_text
from yellow_ember.files.conformed import conform
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.kinds import is_file
from yellow_ember.files.reading import AudioFileError, probe, read_blocks
from yellow_ember.plain_text import plain_line, say
from yellow_ember.session.io.chain_file import read_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import all_presets, find_preset
from yellow_ember.session.io.session_file import impulse_files, read_session
from yellow_ember.session.values.drawn import without_lanes
from yellow_ember.session.values.model import MASTER, Session


class _Progress:
    """A line on standard error where that is a terminal, nothing elsewhere."""

    def __init__(self, label: str) -> None:
        self._label = label
        self._shown = -1

    def __call__(self, share: float) -> None:
        percent = int(100 * share)
        if percent != self._shown and sys.stderr.isatty():
            self._shown = percent
            print(f"\r{self._label}: {percent:3d} %", end="" if percent < 100 else "\n", file=sys.stderr, flush=True)


# -- listings -------------------------------------------------------------------------------


def parameter_listing(parameter: Parameter) -> dict[str, Any]:
    """A parameter as `stages --json` gives it."""
    listing: dict[str, Any] = {"id": parameter.id, "label": parameter.label, "unit": "", "min": None, "max": None,
                               "default": parameter.default_value, "choices": None,
                               "group": parameter.group.value, "help": parameter.help}
    if isinstance(parameter, Number):
        listing |= {"unit": parameter.unit, "min": parameter.minimum, "max": parameter.maximum}
    if isinstance(parameter, Steps):
        listing |= {"min": 0.0, "max": 1.0, "default": []}
    if isinstance(parameter, Edges):
        listing |= {"unit": "Hz", "min": parameter.minimum, "max": parameter.maximum,
                    "default": list(parameter.default)}
    if isinstance(parameter, Option):
        listing |= {"unit": parameter.unit, "choices": [
            {"id": parameter.value_at(index), "label": choice.label}
            for index, choice in enumerate(parameter.choices)]}
    return listing


def stage_listing() -> list[dict[str, Any]]:
    """All stages as `stages --json` gives them."""
    return [{"kind": kind.kind, "label": kind.label, "purpose": kind.purpose,
             "params": [parameter_listing(parameter) for parameter in kind.parameters]} for kind in STAGES]


def _stages(arguments: argparse.Namespace) -> int:
    listing = stage_listing()
    if arguments.kind is not None:
        stage_kind(arguments.kind)
        listing = [entry for entry in listing if entry["kind"] == arguments.kind]
    if arguments.json:
        print(json.dumps(listing, indent=1))
        return 0
    for entry in listing:
        print(f"{entry['kind']}: {entry['label']}. {entry['purpose']}")
        for param in entry["params"]:
            if param["choices"]:
                extent = ", ".join(str(choice["id"]) for choice in param["choices"])
            elif isinstance(param["default"], str):
                extent = "a file's path"
            elif param["min"] is None:
                extent = "true, false"
            else:
                extent = f"{param['min']:g} to {param['max']:g} {param['unit']}".rstrip()
            print(f"  {param['id']:14} {extent} (default {param['default']}): {param['help']}")
    return 0


def _presets(arguments: argparse.Namespace) -> int:
    listing = [{"name": preset.name, "source": preset.source, "intention": preset.intention, "note": preset.note,
                "stages": [stage.kind for stage in preset.stages]} for preset in all_presets()]
    if arguments.json:
        print(json.dumps(listing, indent=1))
    else:
        for entry in listing:
            print(f"{entry['source']:7} {entry['intention']:8} {entry['name']:22} {entry['note']}")
    return 0


# -- work on files --------------------------------------------------------------------------


def _chain_of(arguments: argparse.Namespace) -> tuple[StageSettings, ...]:
    """The chain that `--chain` or `--preset` names, as it stands."""
    if arguments.chain:
        return read_chain(arguments.chain)
    return without_lanes(find_preset(arguments.preset).stages)


def _process(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.jobs.file_processing import FileOrder, process_file

    stages = _chain_of(arguments)
    dtype = arguments.dtype or ("pcm24" if arguments.output.suffix.lower() == ".flac" else "float32")
    order = FileOrder(arguments.oversample, arguments.block, dtype, arguments.match, tail_seconds=arguments.tail)
    result = process_file(arguments.input, arguments.output, stages, order, _Progress(arguments.output.name))
    if result.warning:
        say(result.warning)
    if result.target != arguments.output:
        say(f"{arguments.output} was taken meanwhile; the result is {result.target}")
    if result.replaced:
        say(f"{arguments.input}: {result.replaced} samples were no numbers and count as silence")
    if arguments.match:
        say(f"matched by {result.match_db:+.2f} dB")
    if result.clipped:
        say(f"{arguments.output}: {result.clipped} samples passed full scale and were clipped")
    return 0


def _batch(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.cores import cores
    from yellow_ember.engine.jobs.batch import counted, report_text, run_batch
    from yellow_ember.engine.jobs.batch_order import FAILED, BatchEntry, BatchOrder
    from yellow_ember.engine.jobs.file_processing import FileOrder

    if arguments.send and not arguments.cluster:
        raise ValueError("--send needs --cluster: where the files are to be sent")
    if arguments.send and arguments.reference:
        raise ValueError("a reference is not sent along: use --cluster without --send, with folders that all reach")
    stages = () if arguments.reference else _chain_of(arguments)
    used = arguments.reference or arguments.chain
    order = BatchOrder(
        arguments.out, stages, used.stem if used else arguments.preset, arguments.names, f".{arguments.format}",
        FileOrder(arguments.oversample, dtype=_dtype(arguments), match=arguments.match, peak_dbfs=arguments.peak,
                  tail_seconds=arguments.tail, reference=arguments.reference, seed=arguments.seed), arguments.resume,
        arguments.jobs or cores(), arguments.cluster, arguments.send)
    entries: list[BatchEntry] = []
    interrupted = threading.Event()
    # An exception out of nowhere can be lost where Python tidies up; a flag can't.
    before = signal.signal(signal.SIGINT, lambda _number, _frame: interrupted.set())
    try:
        for entry in run_batch(arguments.inputs, order, _Progress("batch"), interrupted.is_set):
            entries.append(entry)
            if entry.state == FAILED:
                say(f"{entry.source}: {entry.note}")
    finally:
        signal.signal(signal.SIGINT, before)
    stopped = interrupted.is_set()
    if arguments.report is not None:
        try:
            write_text(arguments.report, report_text(entries))
        except OSError as error:
            say(cannot_write(arguments.report, error))
    say(counted(entries) + ("; stopped, --resume goes on from here" if stopped else ""))
    return 130 if stopped else 1 if any(entry.state == FAILED for entry in entries) else 0


def _match(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.jobs.file_processing import refuse_taken
    from yellow_ember.engine.jobs.reference.for_files import match_file
    from yellow_ember.measure.likeness.distance import Respect
    from yellow_ember.measure.likeness.figures import figure_words
    from yellow_ember.session.edits.chain_summary import chain_summary
    from yellow_ember.session.io.chain_file import write_chain

    refuse_taken(arguments.out)
    findings = match_file(arguments.input, arguments.reference, arguments.seed, progress=_Progress("match"))
    best = findings.proposals[0]
    for words in findings.remarks:
        say(words)
    print(f"{'':9} {'apart':>6} {'sure':>6}  {arguments.input.name} | {arguments.reference.name} | the proposal")
    for respect in Respect:
        portraits = (findings.before, findings.reference, best.portrait)
        print(plain_line(f"{respect.value:9} {best.distance.steps[respect]:6.1f} "
                         f"{100.0 * best.distance.sure[respect]:4.0f} %  "
                         + " | ".join(figure_words(portrait, respect) for portrait in portraits)))
    for words in findings.unreached:
        print(plain_line(words))
    print(plain_line(chain_summary(best.chain)))
    write_chain(best.chain, arguments.out)
    return 0


def _render(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.jobs.printing import PrintOrder, print_session, stems

    session = read_session(arguments.session)
    for _strip, _stage, path in impulse_files(session):
        read_impulse(path, session.rate)
    for audio in session.files:
        if is_file(audio):
            with contextlib.suppress(AudioFileError):
                # What can't be read is told with the strips that it keeps from being printed.
                ready = conform(audio, session.rate, _Progress(audio.name))
                if ready.warning:
                    say(ready.warning)
    arguments.out.mkdir(parents=True, exist_ok=True)
    strips = _strips_named(session, arguments.strip) if arguments.strip else (
        tuple(stems(session)) if arguments.stems else (MASTER,))
    order = PrintOrder(arguments.out, strips, arguments.format, _dtype(arguments), arguments.oversample)
    if arguments.loop:
        order = replace(order, start=session.loop.start, end=session.loop.end)
    if arguments.passage is not None:
        passages = [passage for passage in session.passages if passage.name == arguments.passage]
        if not passages:
            raise ValueError(f"{arguments.session} has no passage {arguments.passage!r}")
        order = order.of_passage(session, passages[0])
    printed = print_session(_Progress(session.name), session, order)
    for path in printed.files:
        print(plain_line(str(path)))
    if printed.ceiling_db < -0.05:
        say(f"the output ceiling held the mix down by up to {-printed.ceiling_db:.1f} dB")
    for trouble in printed.left_out:
        say(trouble)
    return 1 if printed.left_out else 0


def _dtype(arguments: argparse.Namespace) -> str:
    """The samples asked for, or what suits the format."""
    return arguments.dtype or ("pcm24" if arguments.format == "flac" else "float32")


def _strips_named(session: Session, names: list[str]) -> tuple[str, ...]:
    """Ids of strips by name or id, however capitalised; ValueError names those there are."""
    known = {key.lower(): strip.id for strip in session.strips for key in (strip.id, strip.name)}
    lost = [name for name in names if name.lower() not in known]
    if lost:
        there = ", ".join(strip.name for strip in session.strips)
        raise ValueError(f"no strip is called {lost[0]!r}; there are {there}")
    return tuple(dict.fromkeys(known[name.lower()] for name in names))


def _measure(arguments: argparse.Namespace) -> int:
    from yellow_ember.measure.comparison import compare
    from yellow_ember.measure.loudness import LoudnessScan

    info = probe(arguments.file)
    scan = LoudnessScan(info.rate, info.channels)
    for block in read_blocks(arguments.file):
        scan.push(np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0))
    found = scan.result()
    result: dict[str, Any] = {"file": str(arguments.file), "rate": info.rate, "channels": info.channels,
                              "frames": info.frames, "seconds": info.seconds, **asdict(found),
                              "crest_db": found.crest_db}
    if arguments.against is not None:
        other = probe(arguments.against)
        if (other.rate, other.frames) != (info.rate, info.frames):
            raise AudioFileError(f"{arguments.against} must have the rate and length of {arguments.file}: "
                                 f"{other.rate} Hz and {other.frames} frames against {info.rate} and {info.frames}")
        before, after = (np.nan_to_num(np.concatenate(list(read_blocks(path)), axis=1))
                         for path in (arguments.against, arguments.file))
        reference = LoudnessScan(other.rate, other.channels)
        reference.push(before)
        comparison = compare(before, after, info.rate)
        result |= {"against": str(arguments.against),
                   "loudness_offset_lu": reference.result().integrated_lufs - found.integrated_lufs,
                   "added_db": comparison.added_db,
                   "bands": [{"hz": float(hz), "before_db": float(b), "after_db": float(a), "added_db": float(added),
                              "tone_db": float(tone)}
                             for hz, b, a, added, tone in zip(
                                 comparison.bands, comparison.before_db, comparison.after_db,
                                 comparison.added_bands_db, comparison.tone_db, strict=True)]}
    if arguments.json:
        print(json.dumps(_finite(result), indent=1))
        return 0
    for name, value in result.items():
        if name != "bands":
            print(plain_line(f"{name:22} {value:.2f}" if isinstance(value, float) else f"{name:22} {value}"))
    for band in result.get("bands", []):
        print(f"{band['hz']:8.0f} Hz  tone {band['tone_db']:+6.2f} dB  added {band['added_db']:7.1f} dB")
    return 0


def _finite(value: Any) -> Any:
    """JSON knows no infinities: they become null."""
    if isinstance(value, dict):
        return {name: _finite(part) for name, part in value.items()}
    if isinstance(value, list):
        return [_finite(part) for part in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


_TOLD_SECONDS = 0.2, 1.0
"""How often levels are told: on a terminal, and elsewhere."""


def _live(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.live.alone import Levels, play_chain
    from yellow_ember.engine.live.cards import DeviceError
    from yellow_ember.engine.live.devices import JACK, SILENT_CARD
    from yellow_ember.engine.live.jack_card import jack_rate
    from yellow_ember.engine.live.messages import DeviceSettings

    terminal = sys.stdout.isatty()

    def tell(levels: Levels) -> None:
        print(f"\r{levels}" if terminal else levels, end="" if terminal else "\n", flush=True)

    served = jack_rate()
    name = arguments.device or (JACK if arguments.ins or arguments.outs or served else SILENT_CARD)
    try:
        if name == JACK and served is None:
            raise DeviceError("no JACK server is running")
        play_chain(_chain_of(arguments), DeviceSettings(name, arguments.block, feed=arguments.feed),
                   served if name == JACK and served else arguments.rate, arguments.oversample, ins=arguments.ins,
                   outs=arguments.outs, say=say, tell=tell, seconds=_TOLD_SECONDS[not terminal])
    except DeviceError as error:
        say(f"yellow-ember: {error}")
        return 1
    except KeyboardInterrupt:
        if terminal:
            print()
    return 0


def _bench(arguments: argparse.Namespace) -> int:
    from yellow_ember.engine.jobs.speed import stage_speeds

    speeds = stage_speeds(_Progress("bench"))
    if arguments.json:
        print(json.dumps([asdict(speed) for speed in speeds], indent=1))
    else:
        print(f"{'stage':8} {'variant':28} {'oversample':>10} {'times real time':>16}")
        for speed in speeds:
            print(f"{speed.kind:8} {speed.variant:28} {speed.oversample:>10} {speed.times_real_time:>16.1f}")
    return 0


COMMANDS: dict[str, Callable[[argparse.Namespace], int]] = {
    "stages": _stages, "presets": _presets, "process": _process, "match": _match, "batch": _batch, "render": _render,
    "measure": _measure, "live": _live, "bench": _bench}
_WRITES = ("process", "match", "batch", "render")
"""They leave half-written files behind where they are killed."""


def run(arguments: argparse.Namespace) -> int:
    """Run the command that the arguments name; the exit status.

    ValueError and OSError where it can't be done.
    """
    try:
        with parts_swept() if arguments.command in _WRITES else contextlib.nullcontext():
            return COMMANDS[arguments.command](arguments)
    except (AudioFileError, SessionFileError) as error:
        raise ValueError(str(error)) from None
