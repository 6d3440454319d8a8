#!/usr/bin/env python3
"""Make the demo session "Night Ferry to Saltmouth" from arithmetic alone.

Usage: make_demo.py [FOLDER]      (default: src/yellow_ember/data/demo)

Sixteen bars at 96 beats a minute.  The tracks' sounds are dry and each has a fault that a stage can
mend: a dull bass, a thin harmonium, a snare with sharp transients, an over-clean voice.  Most strips carry a
shipped preset that suits them, matched over the loop; the guitar is left as it is.
"""

import sys
from pathlib import Path

import numpy as np
from scipy.signal import lfilter

from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.files.writing import writing
from yellow_ember.session.edits.edits import edit_strip, use_chain
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.io.session_file import write_session
from yellow_ember.session.values.model import MASTER, Loop, Session, Strip, StripKind, master_strip
from yellow_ember.session.values.places import Passage
from yellow_ember.session.values.regions import Region

RATE = 48000
BEAT = 60.0 / 96.0
BARS = 16
REEL_BARS = 5
LENGTH = round(BARS * 4 * BEAT * RATE)
RANDOM = np.random.default_rng(96)

D_MINOR, B_FLAT, F_MAJOR, C_MAJOR, G_MINOR, A_MAJOR = (
    (50, 53, 57, 62), (46, 53, 58, 62), (45, 53, 57, 60), (48, 52, 55, 60), (43, 50, 55, 58), (45, 52, 57, 61))
VERSE, TURN = [D_MINOR, B_FLAT, F_MAJOR, C_MAJOR], [G_MINOR, D_MINOR, B_FLAT, A_MAJOR]
CHORDS = [*VERSE, *VERSE, *TURN, *VERSE]


def hertz(note: float) -> float:
    return 440.0 * 2.0 ** ((note - 69) / 12.0)


def place(track: np.ndarray, beat: float, sound: np.ndarray) -> None:
    """Add a sound at a beat, with a few milliseconds of a player's looseness, going round at the end."""
    start = round((beat * BEAT + RANDOM.normal(0.0, 0.003)) * RATE)
    index = (start + np.arange(sound.shape[-1])) % LENGTH
    track[..., index] += sound


def seconds(length: float) -> np.ndarray:
    return np.arange(round(length * RATE)) / RATE


def pole(hz: float) -> float:
    return float(np.exp(-2 * np.pi * hz / RATE))


def low(x: np.ndarray, hz: float) -> np.ndarray:
    a = pole(hz)
    return lfilter([1 - a], [1, -a], x)


def high(x: np.ndarray, hz: float) -> np.ndarray:
    return x - low(x, hz)


def resonance(x: np.ndarray, hz: float, width: float) -> np.ndarray:
    r = np.exp(-np.pi * width / RATE)
    w = 2 * np.pi * hz / RATE
    return lfilter([(1 - r) * np.sqrt(1 - 2 * r * np.cos(2 * w) + r * r)], [1, -2 * r * np.cos(w), r * r], x)


def string(note: float, length: float, damping: float, softness: float) -> np.ndarray:
    """A plucked string: a burst in a lossy delay line (Karplus and Strong, 1983)."""
    period = RATE / hertz(note)
    whole = int(period - 0.5)
    fraction = period - 0.5 - whole
    burst = np.zeros(round(length * RATE))
    burst[:whole] = low(RANDOM.uniform(-1, 1, whole), softness)
    burst[:whole] -= burst[:whole].mean()
    taps = np.zeros(whole + 3)
    taps[0] = 1.0
    loss = damping ** (1.0 / hertz(note))
    taps[whole] -= loss * 0.5 * (1 - fraction)
    taps[whole + 1] -= loss * 0.5
    taps[whole + 2] -= loss * 0.5 * fraction
    tone = lfilter([1.0], taps, burst)
    fade = np.minimum(1.0, np.linspace(length, 0, tone.size) / 0.05)
    return tone / np.abs(tone).max() * fade


def drums() -> np.ndarray:
    track = np.zeros((2, LENGTH))
    t = seconds(0.35)
    kick = np.sin(2 * np.pi * (48 * t + 5.0 * (1 - np.exp(-t * 40)))) * np.exp(-t * 13)
    for bar in range(BARS):
        fill = bar % 4 == 3
        for beat in (0.0, 2.5) if bar % 2 else (0.0, 1.75, 2.5):
            place(track, bar * 4 + beat, 0.62 * RANDOM.uniform(0.8, 1.0) * np.stack([kick, kick]))
        for beat in (1.0, 3.0, 3.5, 3.75) if fill else (1.0, 3.0):
            t2 = seconds(0.22)
            # A brush stroke that starts with a spike: the transient is far above the body.
            wires = high(RANDOM.normal(size=t2.size), 1800) * np.exp(-t2 * 26)
            shell = np.sin(2 * np.pi * 186 * t2) * np.exp(-t2 * 34)
            spike = high(RANDOM.normal(size=t2.size), 2500) * np.exp(-t2 * 900)
            hit = 0.16 * wires + 0.2 * shell + 0.62 * spike
            place(track, bar * 4 + beat, (0.55 if beat > 3.1 else 0.9) * np.stack([hit * 0.9, hit]))
        for eighth in range(8):
            t3 = seconds(0.26)
            swish = high(low(RANDOM.normal(size=t3.size), 9000), 3500)
            envelope = np.sin(np.pi * np.minimum(t3 / 0.24, 1.0)) ** 2 * (0.055 if eighth % 2 else 0.032)
            pan = 0.5 + 0.25 * np.sin(eighth)
            place(track, bar * 4 + eighth / 2 + (0.06 if eighth % 2 else 0.0),
                  np.stack([swish * envelope * (1 - pan), swish * envelope * pan]) * 2)
        for beat in (0.0, 1.0, 1.66, 2.0, 3.0, 3.66):
            t4 = seconds(1.1)
            ring = sum(np.sin(2 * np.pi * f * t4 + f) * np.exp(-t4 * d)
                       for f, d in ((3170, 3.2), (4310, 3.9), (5233, 4.6), (6870, 6.0), (8120, 8.0)))
            ping = high(RANDOM.normal(size=t4.size), 6000) * np.exp(-t4 * 60)
            cymbal = (0.011 * ring + 0.05 * ping) * (0.7 if beat % 1 else 1.0)
            place(track, bar * 4 + beat, np.stack([cymbal * 0.5, cymbal]))
    return track


def bass() -> np.ndarray:
    """Upright and dull: almost nothing above 500 Hz."""
    track = np.zeros((1, LENGTH))
    for bar, chord in enumerate(CHORDS):
        root = chord[0] - 12 if chord[0] > 43 else chord[0]
        walk = ((0.0, root, 1.6), (1.5, root + 7 if root < 38 else root - 5, 0.5), (2.0, root, 1.0),
                (3.0, root + 7 if root < 36 else root, 0.6), (3.5, CHORDS[(bar + 1) % BARS][0] - 13, 0.45))
        for beat, note, length in walk:
            tone = string(note, length * BEAT + 0.15, 0.985 ** 30, 700)
            t = seconds(tone.size / RATE)[: tone.size]
            thud = np.sin(2 * np.pi * 92 * t) * np.exp(-t * 55)
            place(track[0], bar * 4 + beat, 0.42 * (low(low(tone, 420), 700) * 1.9 + 0.15 * thud))
    return track


def harmonium() -> np.ndarray:
    """Thin: the reeds speak, the box does not."""
    track = np.zeros((1, LENGTH))
    for bar, chord in enumerate(CHORDS):
        t = seconds(4 * BEAT + 0.25)
        swell = np.minimum(1, t / 0.22) * np.minimum(1, (t[-1] - t) / 0.3)
        breath = 1 + 0.06 * np.sin(2 * np.pi * 0.4 * (t + bar)) + 0.02 * np.sin(2 * np.pi * 5.1 * t)
        sound = np.zeros(t.size)
        for voice, note in enumerate(chord[1:]):
            for detune in (-0.05, 0.06):
                f = hertz(note + detune)
                for k in range(1, 17):
                    if k * f < 9000:
                        sound += np.sin(2 * np.pi * k * f * t + voice + k * k) / k**0.9 * (0.5 if k == 1 else 1.0)
        place(track[0], bar * 4, 0.012 * high(high(sound, 500), 350) * swell * breath)
    return track


def guitar() -> np.ndarray:
    """Plucked and taken direct: all string, no wood, no room."""
    track = np.zeros((1, LENGTH))
    patterns = ((0, 2, 3, 1, 3, 2, 1, 2), (0, 3, 2, 3, 1, 2, 3, 2))
    for bar, chord in enumerate(CHORDS):
        for eighth, step in enumerate(patterns[bar % 2]):
            note = chord[step] + (12 if step else 0)
            tone = string(note, 1.1, 0.55, 6500)
            accent = 1.0 if eighth in (0, 3, 6) else 0.72
            swing = 0.09 if eighth % 2 else 0.0
            place(track[0], bar * 4 + eighth / 2 + swing, 0.2 * accent * high(tone, 70))
    return track


VOWELS = {"a": (730, 1090, 2440), "e": (530, 1840, 2480), "i": (290, 2250, 3000), "o": (520, 880, 2400),
          "u": (320, 900, 2250)}
LINES = ((1.0, "oeai ao eu"), (17.0, "aie oa ioe"), (33.0, "ouei a ea oi"), (49.0, "ea io uea"))


def announcer() -> np.ndarray:
    """A voice-like ship's announcer: clean to the point of being sterile."""
    track = np.zeros((1, LENGTH))
    for start, line in LINES:
        beat = start
        for word in line.split():
            for place_in_word, vowel in enumerate(word):
                length = RANDOM.uniform(0.2, 0.32)
                t = seconds(length)
                pitch = 118 * 2 ** ((3.0 - 2.5 * (beat - start) / 8 + (2 if place_in_word == 0 else 0)) / 12)
                phase = np.cumsum(pitch * (1 + 0.012 * np.sin(2 * np.pi * 5 * t)) / RATE)
                pulse = (phase % 1.0) ** 2 - 1 / 3 + 0.02 * RANDOM.normal(size=t.size)
                source = np.diff(pulse, prepend=0.0)
                voiced = sum(resonance(source, f, w) * g for f, w, g in
                             zip(VOWELS[vowel], (80, 110, 160), (1.0, 0.63, 0.35), strict=True))
                envelope = np.minimum(1, t / 0.03) * np.minimum(1, (length - t) / 0.06)
                hiss = seconds(0.07)
                consonant = high(RANDOM.normal(size=hiss.size), 4200) * np.sin(np.pi * hiss / 0.07) ** 2
                place(track[0], beat, 0.012 * consonant)
                place(track[0], beat + 0.08, voiced * envelope * 1.5)
                beat += length / BEAT + 0.1
            beat += 0.35
    return track


# Name, maker, bus, level of the file in dBFS, fader in dB, pan.
PASSAGES = (("Verse", 0, 8), ("Bridge", 8, 12), ("Last verse", 12, 16))
"""Names, first bars and ends."""
TRACKS = (("Brushed drums", drums, "rhythm", -16.0, -5.0, 0.0), ("Upright bass", bass, "rhythm", -18.0, -5.5, 0.0),
          ("Harmonium", harmonium, "band", -23.0, -6.0, -35.0), ("Plucked guitar", guitar, "band", -21.0, -7.5, 30.0),
          ("Ship's announcer", announcer, "voice", -19.0, -4.0, 0.0))


# The chain that each strip carries when the demo opens, by preset; the guitar is left dry.
CHAINS = {"brushed-drums": "Deckhand drums", "upright-bass": "Keel weight", "harmonium": "Warm reeds",
          "ships-announcer": "Ship's paging horn", "rhythm": "One crossing", "band": "Held hands",
          "voice": "Steady mooring", MASTER: "Low tide"}


def coloured(session: Session) -> Session:
    """The session with its chains, each matched over the loop."""
    for strip in session.processing_order():
        if strip.id in CHAINS:
            preset = find_preset(CHAINS[strip.id])
            session = use_chain(session, strip.id, preset.stages, preset.macros)
            offset = round(measure_strip(lambda _share: None, session, strip.id).offset_db, 2)
            session = edit_strip(session, strip.id, lambda strip, match_db=offset: strip.with_(match_db=match_db))
            print(f"{strip.name:18} {preset.name:24} match {offset:+.2f} dB")
    return session.with_(shown="rhythm")


def found_reel(path: Path) -> None:
    """Another tune, by the harmonium and the bass, on a tape that lay in an attic: something to sound like."""
    global CHORDS, RANDOM
    CHORDS, RANDOM = [tuple(note + 3 for note in chord) for chord in TURN * 4], np.random.default_rng(58)
    frames = round(REEL_BARS * 4 * BEAT * RATE)
    played = sum(sound[:, :frames] / np.sqrt(np.mean(sound**2)) for sound in (harmonium(), bass()))
    chain = find_preset("Attic reel").stages
    worn = run_in_loop(strip_chain(Session(rate=RATE), "found-reel", chain, 1), 0.1 * played, 0, RATE)
    path.unlink(missing_ok=True)
    with writing(path, RATE, 1, "pcm16") as writer:
        writer.write(0.7 * worn / np.abs(worn).max())


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "src/yellow_ember/data/demo")
    folder.mkdir(parents=True, exist_ok=True)
    strips = []
    for name, make, bus, level, fader, pan in TRACKS:
        sound = make()
        sound -= sound.mean(axis=1, keepdims=True)
        active = np.abs(sound).max(axis=0) > 0.01 * np.abs(sound).max()
        sound *= 10 ** (level / 20) / np.sqrt(np.mean(sound[:, active] ** 2))
        peak = np.abs(sound).max()
        if peak > 0.89:
            sound *= 0.89 / peak
        path = folder / f"{name.lower().replace(' ', '-').replace(chr(39), '')}.flac"
        path.unlink(missing_ok=True)
        with writing(path, RATE, sound.shape[0], "pcm16") as writer:
            writer.write(sound)
        regions = (Region(id=f"{path.stem}-1", audio=path.resolve()),)
        strips.append(Strip(id=path.stem, name=name, kind=StripKind.TRACK, out=bus, regions=regions,
                            volume_db=fader, pan=pan))
        print(f"{name:18} peak {20 * np.log10(np.abs(sound).max()):6.1f} dBFS, {path.stat().st_size / 1e6:.1f} MB")
    strips += [Strip(id=bus.lower(), name=bus, kind=StripKind.BUS, out=MASTER) for bus in ("Rhythm", "Band", "Voice")]
    bar = round(4 * BEAT * RATE)
    passages = tuple(Passage(id=f"passage-{number}", name=name, start=first * 4 * BEAT, end=last * 4 * BEAT)
                     for number, (name, first, last) in enumerate(PASSAGES, 1))
    session = Session(name="Night Ferry to Saltmouth", rate=RATE, tempo=96.0, loop=Loop(4 * bar, 8 * bar),
                      passages=passages, strips=(*strips, master_strip()))
    write_session(coloured(session), folder / "night-ferry.ember")
    found_reel(folder / "found-reel.flac")


if __name__ == "__main__":
    main()
