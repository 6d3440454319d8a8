"""A record: the stylus tracing its groove, the platter that turns it, and what lies in the groove."""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.filters import TINY, biquads
from yellow_ember.dsp.kernels.motion import TAPS, read_at
from yellow_ember.dsp.kernels.noise import hashed
from yellow_ember.dsp.oversampling import OversamplingRecord, fall, rise
from yellow_ember.dsp.record import cube

CHUNK = 128
"""Base-rate frames worked on at once."""


STEEP, SHELF, RADIUS, FALL = range(4)
"""What `ride` takes of a groove: the slope, over the steepest that is cut, of a signal of one; the time constant in
frames over which the cutter's limit of velocity becomes one of acceleration; the tip's radius in frames over that
steepest slope; by how much of it a tip that has left the wall turns back in a frame."""
GROOVE = 4
(CUT_1, CUT_2, SHARP, RAISED, S_1, S_2, S_3, HEIGHT, LATE_1, LATE_2, PENDING, TOP, TOP_SLOPE, TOP_CURVE, TIP,
 TIP_SPEED, FRAME, FRONT, BACK) = range(19)
"""What is kept of a wall: inputs and what the cutter makes of them; the last slopes; its height; the two heights
that wait and what a corner adds to the next; the last height that the tip cannot pass, its slope and curvature; the
tip's height and speed; frames cut; the hull's ends."""
WALL_STATES = 19
AT, LIFT, FROM = range(3)
"""Of a parabola of the hull: its frame, height, and the place from which on it is the highest."""
LOW, SLOPE, FURTHER, NEXT, NEXT_SLOPE, SIDE, CORNERS = range(7)
WAY_SLOPE, WAY_CURVE = SLOPE, FURTHER
"""Of the cell that the tip touches, seen to the side of the touch: height and slope of the frame at its beginning, how
much further the tip is, height and slope of the next frame; that side, 1 or -1.  Then, in place of some, slope and
curvature of the way that the tip goes there.  And the frames before which it goes from one side of a pit to the
other."""
FOUND = 7
_ALWAYS = -1e300
_LEAK = 5e-5
"""Of a wall's height, a frame: under 4 Hz it does not add up."""
_SHARPER = 1.0 / 6.0
"""Gives back to the top what the mean of the cutter's limit and the mean of the tip's speed take."""
PIECE = 128
"""Frames at the raised rate that a tip is led over at once."""
LATE = 5
"""Frames that `ride` is late by, beside those that it looks ahead."""


def wall_length(ahead: int) -> int:
    """Frames of a wall that are kept where so many are cut ahead: a power of two."""
    return 1 << (2 * ahead + 8).bit_length()


@kernel
def set_down(ahead: int, hulls: Samples, wall_states: Samples) -> None:
    """The tip rests on walls, (channels, 3, length) and (channels, WALL_STATES), that are flat as far as they are cut.

    All else of them is zero.
    """
    for c in range(hulls.shape[0]):
        wall_states[c, FRAME] = wall_states[c, BACK] = ahead
        for k in range(ahead):
            hulls[c, AT, k], hulls[c, FROM, k] = k, k - 0.5


@kernel
def cut(samples: Samples, steep: float, shelf: float, wall: Samples) -> None:
    """Slopes (n,) that a cutter cuts of samples (n,), in place, both over the steepest that it can.

    Its velocity is limited, and at high frequencies its acceleration: between a shelf and its inverse stands
    x / sqrt(1 + x^2), of which each sample takes the mean since the one before.
    """
    first, second, sharp, raised = wall[CUT_1], wall[CUT_2], wall[SHARP], wall[RAISED]
    root, slope, keep = np.sqrt(1.0 + raised * raised), wall[S_1], shelf / (1.0 + shelf)
    for i in range(np.uintp(samples.size)):
        x = steep * samples[i]
        now = first + _SHARPER * (2.0 * first - x - second)
        first, second = x, first
        up = now + shelf * (now - sharp)
        sharp = now
        length = np.sqrt(1.0 + up * up)
        mean = (up + raised) / (length + root)
        raised, root = up, length
        slope = mean + keep * (slope - mean)
        samples[i] = slope
    wall[CUT_1], wall[CUT_2], wall[SHARP], wall[RAISED] = first, second, sharp, raised


@kernel
def touch(samples: Samples, ahead: int, radius: float, surface: Samples, hull: Samples, wall: Samples,
          touched: Samples) -> int:
    """Add slopes (n,) to a wall, and find where the tip touches it `ahead` frames before each.

    What comes back is how many frames are in CORNERS.

    Parameters
    ----------
    touched : Samples
        (FOUND, n), filled.
    """
    mask = surface.shape[1] - 1
    heights, slopes = surface[0], surface[1]
    places, lifts, from_ = hull[AT], hull[LIFT], hull[FROM]
    s1, s2, s3, height = wall[S_1], wall[S_2], wall[S_3], wall[HEIGHT]
    frame, front, back = int(wall[FRAME]), int(wall[FRONT]), int(wall[BACK])
    last = np.uintp((back - 1) & mask)
    last_place, last_lift, last_from = places[last], lifts[last], from_[last]
    on, corners = places[np.uintp(front & mask)], 0
    for i in range(np.uintp(samples.size)):
        slope = samples[i]
        # The height over the last frame, by the cubic through four slopes.
        height = (1.0 - _LEAK) * height + (13.0 * (s1 + s2) - slope - s3) * (1.0 / 24.0)
        s3, s2, s1 = s2, s1, slope
        at = np.uintp(frame & mask)
        heights[at], slopes[at] = height, s2 - _LEAK * height
        place = float(frame)
        begins = 0.5 * (place + last_place) + radius * (last_lift - height) / (place - last_place)
        while begins <= last_from:
            back -= 1
            if back == front:
                begins = _ALWAYS
                break
            last = np.uintp((back - 1) & mask)
            last_place, last_lift, last_from = places[last], lifts[last], from_[last]
            begins = 0.5 * (place + last_place) + radius * (last_lift - height) / (place - last_place)
        last = np.uintp(back & mask)
        places[last], lifts[last], from_[last] = place, height, begins
        last_place, last_lift, last_from = place, height, begins
        back += 1
        place -= ahead
        widest = 1.0
        while back - front > 1 and from_[np.uintp((front + 1) & mask)] <= place:
            front += 1
            was, on = on, places[np.uintp(front & mask)]
            widest = max(widest, on - was)
        if widest > 1.0:
            touched[CORNERS, corners] = i
            corners += 1
        further = place - on
        # On the side to which its parabola rises towards the wall, the tip touches between this frame and the next.
        under = int(on) & mask
        here = np.uintp(under)
        side = math.copysign(1.0, slopes[here] * radius + further)
        there = np.uintp((under + int(side)) & mask)
        touched[LOW, i], touched[SLOPE, i], touched[FURTHER, i] = heights[here], side * slopes[here], side * further
        touched[NEXT, i], touched[NEXT_SLOPE, i], touched[SIDE, i] = heights[there], side * slopes[there], side
        frame += 1
    wall[S_1], wall[S_2], wall[S_3], wall[HEIGHT] = s1, s2, s3, height
    wall[FRAME], wall[FRONT], wall[BACK] = frame, front, back
    return corners


@kernel
def dilate(samples: Samples, radius: float, touched: Samples) -> None:
    """Fill (n,) with the height at which the tip stands, and with slope and curvature of its way.

    Between two frames a wall is the cubic of their heights and slopes.
    """
    bend = 0.5 / radius
    lows, slopes, further = touched[LOW], touched[SLOPE], touched[FURTHER]
    nexts, next_slopes, sides = touched[NEXT], touched[NEXT_SLOPE], touched[SIDE]
    for i in range(np.uintp(samples.size)):
        low, slope, ahead = lows[i], slopes[i], further[i]
        rise, sum_ = nexts[i] - low, slope + next_slopes[i]
        curve, twist = 3.0 * rise - slope - sum_, sum_ - 2.0 * rise
        # The slope against the tip's is c + 2 b t + 3 a t^2; it is above zero at 0 and falls through it at t.
        c, b = slope + 2.0 * bend * ahead, curve - bend
        t = c / max(np.sqrt(max(b * b - 3.0 * twist * c, 0.0)) - b, c + TINY)
        samples[i] = low + t * (slope + t * (curve + t * twist)) - bend * (t - ahead) * (t - ahead)
        slopes[i] = 2.0 * bend * sides[i] * (t - ahead)
        # The touch moves on by 1 / (1 - wall's curvature over the tip's) of what the tip does.
        bent = 2.0 * curve + 6.0 * twist * t
        further[i] = bent / max(1.0 - bent * radius, 0.1)


@kernel
def round_off(samples: Samples, touched: Samples, corners: int, tops: Samples, wall: Samples) -> None:
    """Delay heights (n,) by two frames, in place, each corner made that of a limited band.

    A corner adds a ramp, of which four frames take what the integral of a cubic B-spline differs by
    (Esqueda, Valimaki and Bilbao, IEEE Signal Processing Letters 23, 2016).

    Parameters
    ----------
    tops : Samples
        Scratch, (PIECE + 3,).
    """
    n = np.uintp(samples.size)
    slopes, curves = touched[WAY_SLOPE], touched[WAY_CURVE]
    tops[0], tops[1], tops[n + np.uintp(2)] = wall[LATE_2], wall[LATE_1], 0.0
    for i in range(n):
        tops[i + np.uintp(2)] = samples[i]
    tops[2] += wall[PENDING]
    for k in range(corners):
        at = np.uintp(touched[CORNERS, k])
        before = np.uintp(max(int(at) - 1, 0))
        low, slope, curve = ((wall[TOP], wall[TOP_SLOPE], wall[TOP_CURVE]) if at == 0 else
                             (samples[before], slopes[before], curves[before]))
        # Both ways meet d frames before this one.
        d = 0.5
        for _ in range(3):
            gap = samples[at] - low - d * (slopes[at] - 0.5 * d * curves[at]) - (1.0 - d) * (
                slope + 0.5 * (1.0 - d) * curve)
            corner = slopes[at] - d * curves[at] - slope - (1.0 - d) * curve
            d = min(max(d + gap / max(corner, TINY), 0.0), 1.0)
        if corner > 0.0:
            tops[at] += corner * (d**5 / 120.0)
            tops[at + np.uintp(1)] += corner * (1.0 / 120.0 + d * (1.0 / 24.0 + d * (1.0 / 12.0 + d * (
                1.0 / 12.0 + d * (1.0 / 24.0 - d / 40.0)))))
            tops[at + np.uintp(2)] += corner * (7.0 / 30.0 + d * (-0.5 + d * (1.0 / 3.0 + d * d * (
                d / 40.0 - 1.0 / 12.0))))
            tops[at + np.uintp(3)] += corner * (1.0 - d)**5 / 120.0
    last = n - np.uintp(1)
    wall[TOP], wall[TOP_SLOPE], wall[TOP_CURVE] = samples[last], slopes[last], curves[last]
    wall[LATE_2], wall[LATE_1], wall[PENDING] = tops[n], tops[n + np.uintp(1)], tops[n + np.uintp(2)]
    for i in range(n):
        samples[i] = tops[i]


@kernel
def fly(samples: Samples, back_to: float, fall: float, radius: float, wall: Samples) -> None:
    """Speed of a tip over heights (n,) that it cannot pass, in place, times `back_to`."""
    tip, speed = wall[TIP], wall[TIP_SPEED]
    if fall * radius > 1.0:
        # What so blunt a tip rides on never falls away that fast.
        for i in range(np.uintp(samples.size)):
            now = samples[i]
            samples[i] = back_to * (now - (1.0 - _LEAK) * tip)
            speed, tip = now - tip, now
        wall[TIP], wall[TIP_SPEED] = tip, speed
        return
    for i in range(np.uintp(samples.size)):
        # It lands without a bounce: from there on it has the wall's speed.
        now = max(samples[i], tip + (speed - fall))
        speed = now - tip
        samples[i] = back_to * (speed + _LEAK * tip)
        tip = now
    wall[TIP], wall[TIP_SPEED] = tip, speed


@kernel
def ride(samples: Samples, side: float, ahead: int, groove: Samples, surface: Samples, hull: Samples,
         wall: Samples, touched: Samples, tops: Samples) -> None:
    """What a tip's speed is that rides a wall cut from samples (n,), at the raised rate, in place.

    The tip's place is the dilation of the wall by it: the highest of all parabolas of the tip's curvature that
    stand on the wall.  Which of them it is follows from the hull of those that stand on samples (Felzenszwalb and
    Huttenlocher, Distance transforms of sampled functions, Theory of Computing 8, 2012), in constant time a sample;
    where between two samples it touches, from the cubic there.  Where the wall falls away faster than the tip's
    mass can follow, the tip flies, and lands without a bounce.

    Parameters
    ----------
    side : float
        1 or -1, to which of them the wall leans.
    ahead : int
        Frames that the wall is cut ahead of the tip.
    groove : Samples
        (GROOVE,).
    surface : Samples
        (2, `wall_length`), heights and slopes by frame.
    hull : Samples
        (3, `wall_length`).
    wall : Samples
        (WALL_STATES,).
    touched, tops : Samples
        Scratch, (FOUND, PIECE) and (PIECE + 3,).
    """
    cut(samples, side * groove[STEEP], groove[SHELF], wall)
    for start in range(0, samples.size, PIECE):
        piece = samples[start:start + PIECE]
        corners = touch(piece, ahead, groove[RADIUS], surface, hull, wall, touched)
        dilate(piece, groove[RADIUS], touched)
        round_off(piece, touched, corners, tops, wall)
        fly(piece, side / groove[STEEP], groove[FALL], groove[RADIUS], wall)
    for k in range(FRAME):
        if abs(wall[k]) < TINY:
            wall[k] = 0.0


@kernel
def trace(block: Samples, ahead: int, groove: Samples, cutting: Samples, playing: Samples, cutting_state: Samples,
          playing_state: Samples, surfaces: Samples, hulls: Samples, wall_states: Samples, walls: Samples,
          touched: Samples, tops: Samples, fast: OversamplingRecord) -> None:
    """Cut a block into a groove and play it, at the raised rate, in place.

    Parameters
    ----------
    ahead, groove : int, Samples
        As `ride` takes them.
    cutting, playing : Samples
        Sections of the equalisers; the second channel is the other wall.
    surfaces, hulls, wall_states : Samples
        Of every channel, as `ride` takes them.
    walls : Samples
        Scratch, channels times CHUNK at the raised rate.
    touched, tops : Samples
        Scratch, as `ride` takes it.
    """
    channels, up = block.shape[0], cube(fast.up)
    for start in range(0, block.shape[1], CHUNK):
        n = min(CHUNK, block.shape[1] - start)
        count = n << fast.levels
        high = block_view(walls, channels, count)
        for c in range(channels):
            raised = rise(fast, up[c], block[c, start:start + n])
            for i in range(count):
                high[c, i] = raised[i]
        biquads(high, cutting, cutting_state)
        for c in range(channels):
            ride(high[c], 1.0 if c == 0 else -1.0, ahead, groove, surfaces[c], hulls[c],
                 wall_states[c], touched, tops)
        biquads(high, playing, playing_state)
        for c in range(channels):
            fall(fast, c, high[c], block[c, start:start + n])


TURNS, OFF_CENTRE, WARP, BEGINS, EVERY, STOPPING, RESTING, STARTING = range(8)
"""What `turn` takes: turns a second; deviation of the speed by a hole off the centre and by a warp (0.01 = 1 %);
of the gesture its first second (below zero for none), the seconds until it comes again (0 for never), and how long
stopping, standing and starting last."""
FIGURES = 8


@kernel
def gesture(seconds: float, figures: Samples) -> tuple[float, float]:
    """By how many seconds the gesture holds the record back, and the platter's speed, 1 at the full one."""
    since = seconds - figures[BEGINS]
    if figures[BEGINS] < 0.0 or since < 0.0:
        return 0.0, 1.0
    if figures[EVERY] > 0.0:
        since -= figures[EVERY] * np.floor(since / figures[EVERY])
    stopping, starting = figures[STOPPING], figures[STARTING]
    if since < stopping:
        return 0.5 * since * since / stopping, 1.0 - since / stopping
    since -= stopping
    if since < figures[RESTING]:
        return 0.5 * stopping, 0.0
    since -= figures[RESTING]
    if since < starting:
        # It is let go ahead of the music, so that at full speed both are together again.
        left = starting - since
        return -0.5 * left * left / starting, since / starting
    return 0.0, 1.0


@kernel
def turn(block: Samples, here: int, turned: int, rate: float, centre: int, figures: Samples, table: Samples,
         ring: Samples, index: int, speeds: Samples) -> int:
    """Play a block from a platter, in place; returns the ring's new place.

    Parameters
    ----------
    here : int
        Session frame of the first value, for the gesture.
    turned : int
        Frames that the platter has run by then.
    centre : int
        Frames of delay at rest.
    ring : Samples
        (channels, 2 length), every sample written twice.
    speeds : Samples
        (frames,), the platter's speed.
    """
    length = ring.shape[1] // 2
    round_ = 2.0 * math.pi * figures[TURNS]
    stops = figures[BEGINS] >= 0.0
    delay, speed = 0.0, 1.0
    step, once, twice = round_ / rate, figures[OFF_CENTRE] * rate / round_, 0.5 * figures[WARP] * rate / round_
    # The tap before the place read is TAPS / 2 - 1 from the first one in use.
    begin = float(length - centre - (TAPS // 2 - 1))
    for i in range(block.shape[1]):
        angle = step * (turned + i)
        if stops:
            delay, speed = gesture((here + i) / rate, figures)
        speeds[i] = speed
        at = index + i + begin - delay * rate + once * math.sin(angle) + twice * math.sin(2.0 * angle + 1.0)
        first = int(at)
        part = at - first
        first -= length if first >= length else 0
        first -= length if first >= length else 0
        now = index + i
        now -= length if now >= length else 0
        for c in range(block.shape[0]):
            ring[c, now] = block[c, i]
            ring[c, now + length] = block[c, i]
            block[c, i] = speed * read_at(ring[c], table, first, part) if speed > 0.0 else 0.0
    return int((index + block.shape[1]) % length)


CELLS, DUST, POPS, DUST_LEVEL, POP_LEVEL, SEED = range(6)
"""What `dirt` takes: cells a turn; chance of dust and of a pop in a cell; their levels; a seed."""
DIRT = 6
DUST_TURNS, POP_TURNS = 3.0, 12.0
"""For how many turns a piece of dust stays, and over how many a scratch runs."""
_KEY = 65536.0


@kernel
def lies(kind: float, cell: float, turn_: float, chance: float, lasting: float, seed: float) -> float:
    """The number of what lies in a cell of the record in some turn, or -1 for nothing.

    Each cell has a turn of its own at which what lies there changes.
    """
    epoch = np.floor((turn_ + lasting * hashed(seed + kind, cell)) / lasting)
    number = cell + _KEY * epoch
    return number if hashed(seed + kind + 1.0, number) < chance else -1.0


@kernel
def dirt(here: int, rate: float, turns: float, figures: Samples, dust: Samples, pops: Samples) -> None:
    """Fill with a pulse for each event, (channels, frames) both.

    Parameters
    ----------
    here : int
        Frames that the platter has run by the first value.
    turns : float
        Turns a second.
    """
    frames, seed = dust.shape[1], figures[SEED]
    for c in range(dust.shape[0]):
        for i in range(frames):
            dust[c, i] = 0.0
            pops[c, i] = 0.0
    cells = figures[CELLS]
    scale = turns * cells / rate
    for q in range(int(np.floor(here * scale)), int(np.floor((here + frames) * scale)) + 1):
        turn_ = np.floor(q / cells)
        cell = q - turn_ * cells
        for kind in range(2):
            chance = figures[DUST] if kind == 0 else figures[POPS]
            if chance <= 0.0:
                continue
            number = lies(10.0 * kind, cell, turn_, chance, DUST_TURNS if kind == 0 else POP_TURNS, seed)
            if number < 0.0:
                continue
            at = int(np.floor((q + hashed(seed + 10.0 * kind + 2.0, number)) / scale)) - here
            if at < 0 or at >= frames:
                continue
            # Most are small, a few stand out: 30 dB between them.
            loud = hashed(seed + 10.0 * kind + 3.0, number)
            level = (figures[DUST_LEVEL] if kind == 0 else figures[POP_LEVEL]) * 10.0 ** (1.5 * (loud * loud - 1.0))
            side = 2.0 * hashed(seed + 10.0 * kind + 4.0, number) - 1.0
            up = 1.0 if hashed(seed + 10.0 * kind + 5.0, number) < 0.5 else -1.0
            for c in range(dust.shape[0]):
                share = 1.0 - 0.7 * max(side if c == 0 else -side, 0.0)
                if kind == 0:
                    dust[c, at] += up * level * share
                else:
                    pops[c, at] += up * level * share
